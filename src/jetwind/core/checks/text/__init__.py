"""Checks of the group text."""
