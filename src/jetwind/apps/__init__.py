"""Thin Django: models, services that write, selectors that read, views, templates."""
