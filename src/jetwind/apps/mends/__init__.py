"""Mended copies of messages: what a machine can put right is offered, proven, chosen by a person, and becomes the next revision."""
