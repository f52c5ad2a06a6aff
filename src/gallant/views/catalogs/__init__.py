"""Views of publishers' catalogs."""
