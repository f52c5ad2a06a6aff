"""Views of health."""
