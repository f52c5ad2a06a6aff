"""Twins of the systems, made from what their nodes last told, on which the engine carries a plan out in no time."""
