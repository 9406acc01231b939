"""The knowledge of a message's renders: what was measured on each, which losses show, how far one layout lies from another."""

from jetwind.core.renders.of_message import Render, Renders

__all__ = ["Render", "Renders"]
