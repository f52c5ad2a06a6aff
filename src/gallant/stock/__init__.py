"""The verified packages kept locally."""
