"""How far the data prefer one model over another."""
