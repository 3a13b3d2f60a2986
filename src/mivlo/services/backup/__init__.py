"""Backing songs up into a file that outlives us, and bringing them back."""
