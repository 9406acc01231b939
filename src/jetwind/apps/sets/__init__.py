"""Sets of automatic messages that are reviewed as one, and the parts that messages share."""
