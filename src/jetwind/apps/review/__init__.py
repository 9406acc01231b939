"""Findings of a revision, excuses, stations, the Walkaround."""
