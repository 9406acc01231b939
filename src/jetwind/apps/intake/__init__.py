"""Mailings and their revisions, and how files come in."""
