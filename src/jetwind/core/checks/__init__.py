"""The catalogue: a folder per check group, a module per subject with its few checks."""
