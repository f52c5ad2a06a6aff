"""Commands of publishers' catalogs."""
