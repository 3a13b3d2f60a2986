"""Long work as the user sees it."""
