"""What is kept: backups, restore points, packages."""
