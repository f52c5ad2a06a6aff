"""What is kept: plain SQL on sqlite3, in the estate's state/ folder."""
