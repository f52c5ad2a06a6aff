"""HTTP: one request over a verified connection, sessions, and the calls of a profile."""
