"""When work is allowed, and when it is not."""
