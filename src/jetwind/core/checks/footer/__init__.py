"""Checks of the group footer."""
