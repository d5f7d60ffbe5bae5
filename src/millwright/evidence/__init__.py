"""How probable the data are under a model: marginal likelihoods and Bayes factors."""
