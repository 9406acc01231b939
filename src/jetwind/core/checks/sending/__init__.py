"""Checks of the group sending."""
