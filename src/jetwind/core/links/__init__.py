"""Links of a message: collected from wherever they stand, told apart by what they are for, and what they answered."""

from jetwind.core.links.collect import Link, accessible_name, has_more_links, links, text_links

__all__ = ["Link", "accessible_name", "has_more_links", "links", "text_links"]
