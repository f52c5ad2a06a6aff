"""Plans: made, shown, laid into windows."""
