"""Renders of a revision."""
