"""Sending a message back with instructions, and ticking them off."""
