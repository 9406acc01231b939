"""Content by its SHA-256, kept once."""
