"""People, their roles, and what a role may do."""
