"""Views of what people decide."""
