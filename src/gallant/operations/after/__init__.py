"""What was done, and whether it is as it was."""
