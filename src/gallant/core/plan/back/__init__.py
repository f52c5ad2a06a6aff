"""The way back of a roll: what each node goes back to, in which pieces, and in which order across systems."""
