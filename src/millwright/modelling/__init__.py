"""From checked definitions and data to a compiled log density and to simulated data."""
