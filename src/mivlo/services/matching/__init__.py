"""Moves made to match another sound: its balance, or its own resonances."""
