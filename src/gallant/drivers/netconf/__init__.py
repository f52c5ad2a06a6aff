"""NETCONF (RFC 6241): a session, what is read, and the orders that it takes."""
