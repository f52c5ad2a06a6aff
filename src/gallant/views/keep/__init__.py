"""Views of what is kept: backups, restore points, packages."""
