"""How long work takes: learned, drawn, and laid into windows."""
