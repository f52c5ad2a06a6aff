"""What all commands share: options, and the way from a selection to an operation."""
