"""The command line over core and engines; needs no database for check and render."""
