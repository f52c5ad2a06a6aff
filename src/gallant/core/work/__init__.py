"""The work: plans, kinds of step, estimates, and what a journal says of it."""
