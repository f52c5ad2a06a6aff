"""The Skerry Line: a small ferry operator's estate, on stand-ins."""
