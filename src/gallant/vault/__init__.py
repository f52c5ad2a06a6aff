"""Backups: exported, compressed, sealed by reading back, kept off the system."""
