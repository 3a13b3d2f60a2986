"""Mivlo: find and cut what rings, booms and masks on instrument tracks."""

__version__ = "0.3.0"
