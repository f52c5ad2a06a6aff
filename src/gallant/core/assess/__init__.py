"""What is against what should be: gaps, routes, requirements, findings, and what was decided about them."""
