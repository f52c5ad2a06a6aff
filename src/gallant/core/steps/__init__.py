"""The kinds of step: guards, how each is seen, how long it takes, how it is undone."""
