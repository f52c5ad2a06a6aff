"""What people decide: notices, the ledger, waivers, approvals."""
