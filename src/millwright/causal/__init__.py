"""Causal graphs: what they say of effects and of independences, by d-separation."""
