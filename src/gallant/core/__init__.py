"""The computation: records and decisions. No I/O, no clock, no chance, no interface."""
