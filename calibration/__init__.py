"""Weights of spam risk from open labelled mail: ``python -m calibration`` trains, measures and writes what ships and the report."""
