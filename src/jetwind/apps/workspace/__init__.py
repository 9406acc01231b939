"""A team's house: people, sample readers, fields, test domains, levels."""
