"""Fits: from a bound model and settings to draws with the record of how they were made."""
