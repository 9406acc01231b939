"""The home list: messages in the order in which they leave."""
