"""What helps to make moves that listen: ready starts, thresholds, more of the same."""
