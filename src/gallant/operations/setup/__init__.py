"""Making an estate, and looking after Gallant itself."""
