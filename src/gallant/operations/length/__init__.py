"""How long work takes, by what was learned."""
