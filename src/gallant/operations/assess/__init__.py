"""What runs, what should, and the way there."""
