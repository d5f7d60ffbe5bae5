"""Model sheets and stored runs, in open formats."""
