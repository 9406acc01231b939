"""Stations of the Walkaround, a module each: see ``review/station_page.py``."""
