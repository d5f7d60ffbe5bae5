"""What users write: models and log densities of their own, and going on with stored runs."""
