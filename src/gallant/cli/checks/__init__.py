"""Commands of health."""
