"""Commands of what runs, what should, and the way there."""
