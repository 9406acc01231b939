"""Checks of the group images."""
