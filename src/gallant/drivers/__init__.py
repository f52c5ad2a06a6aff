"""Drivers turn one protocol each into core records. What differs between device kinds is in a profile, not here."""
