"""What waits for a person: sent back, asked to sign, voided, answered, bounced; one list in the top line."""
