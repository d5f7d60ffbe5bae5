"""Labelled posterior draws: tables, intervals, statements, predictive draws and checks."""
