"""Jetwind: the workbench of the e-mail quality reviewer."""

__version__ = "0.1.0"
