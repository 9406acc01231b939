"""Checks of the group wording."""
