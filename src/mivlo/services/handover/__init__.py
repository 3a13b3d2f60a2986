"""What leaves the house: treated files and sheets."""
