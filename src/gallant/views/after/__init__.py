"""Views of what was done, and whether all is as it was."""
