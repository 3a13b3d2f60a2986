"""A song: reading it, changing it, its log."""
