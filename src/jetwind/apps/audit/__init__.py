"""The log: append-only, each entry holding the hash of the one before."""
