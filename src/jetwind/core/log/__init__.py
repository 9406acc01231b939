"""The log as a file: entries as lines of JSON, and verifying their chain of hashes without a database."""

from jetwind.core.log.chain import FIRST_HASH, Entry, Verified, hash_of, verify_lines

__all__ = ["FIRST_HASH", "Entry", "Verified", "hash_of", "verify_lines"]
