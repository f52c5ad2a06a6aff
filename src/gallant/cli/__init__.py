"""Commands: each reads its options, calls one operation, and shows one view."""
