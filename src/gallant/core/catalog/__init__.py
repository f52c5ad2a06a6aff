"""What publishers issue: products, releases, packages, and the conditions under which they hold. It knows no estate."""
