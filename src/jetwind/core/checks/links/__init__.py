"""Checks of the group links."""
