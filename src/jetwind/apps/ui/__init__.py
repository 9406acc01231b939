"""Look and shared pieces of every screen."""
