"""Test lists, test sends, and the Mailroom."""
