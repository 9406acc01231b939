"""Checks of the group envelope."""
