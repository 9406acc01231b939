"""Checks of the group access."""
