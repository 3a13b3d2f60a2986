"""What the page draws."""
