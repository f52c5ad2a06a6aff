"""Publishers' catalogs: fetched, verified before they are parsed, and only then believed."""
