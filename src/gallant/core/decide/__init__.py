"""What people decide: notices, the ledger, waivers, consents; and what is due by them."""
