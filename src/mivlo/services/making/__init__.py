"""What helps to make moves that listen: levels to set a threshold by, ready starts, more of the same."""
