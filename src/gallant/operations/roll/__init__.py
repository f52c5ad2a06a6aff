"""Carrying out a plan, now or when it is due."""
