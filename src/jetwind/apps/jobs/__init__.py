"""Long work in the background, with progress that a page reads."""
