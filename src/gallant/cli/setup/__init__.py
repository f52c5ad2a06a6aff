"""Commands of making an estate, and of looking after Gallant itself."""
