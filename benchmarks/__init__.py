"""Ratios to floors measured in the same run; docs in each module. Never part of the tests."""
