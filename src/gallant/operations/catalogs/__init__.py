"""Publishers' catalogs: followed, brought, trusted."""
