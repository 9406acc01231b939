"""Checks of the group fields."""
