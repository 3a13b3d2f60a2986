"""Recordings that come in."""
