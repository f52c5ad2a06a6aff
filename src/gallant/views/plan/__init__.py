"""Views of plans and their windows."""
