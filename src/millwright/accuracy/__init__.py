"""How well a model predicts rows that it has not seen, by leaving rows out."""
