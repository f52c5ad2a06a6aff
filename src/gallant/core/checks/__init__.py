"""Checks of health: how each is registered, the facts that it sees, what it finds."""
