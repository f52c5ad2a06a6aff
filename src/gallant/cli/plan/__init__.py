"""Commands of plans and their windows."""
