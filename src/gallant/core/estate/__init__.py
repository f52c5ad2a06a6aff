"""What there is to look after, and what its people declared: systems, aims, rules, shapes, backups, sources."""
