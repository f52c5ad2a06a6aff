"""Whether a system is well, and was before."""
