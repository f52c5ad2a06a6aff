"""Gallant keeps storage, network and platform systems up to date, one safe step at a time."""

__version__ = "0.1.0"
