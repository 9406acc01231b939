"""The pure part of Jetwind: bytes in, values out. No Django, no network, no clock, no files written."""
