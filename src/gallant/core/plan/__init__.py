"""How a plan is made, and judged again when it begins."""
