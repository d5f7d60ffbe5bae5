"""Draws and runs that come from elsewhere, or go there."""
