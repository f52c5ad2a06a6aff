"""Results to what a person reads, or to data. Nothing here decides anything."""
