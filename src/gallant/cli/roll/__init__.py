"""Commands of carrying out a plan, now or when it is due."""
