"""Checks of the group appearance."""
