"""Sign-offs, clearance, release."""
