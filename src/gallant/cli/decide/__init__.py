"""Commands of what people decide."""
