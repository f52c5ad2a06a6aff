"""The opened estate, and what every other room stands on."""
