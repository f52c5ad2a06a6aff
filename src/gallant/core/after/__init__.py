"""Before against after: what came back, and what differs."""
