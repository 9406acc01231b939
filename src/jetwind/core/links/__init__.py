"""Links of a message: collected from the HTML and the plain text, and sorted by what their address is."""

from jetwind.core.links.collect import Link, accessible_name, links, text_links

__all__ = ["Link", "accessible_name", "links", "text_links"]
