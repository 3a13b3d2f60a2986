"""What stands out: looking for it, its documents, decisions on it."""
