"""Trials: lists of changes that are kept with a network, tried on its revisions and made into new ones."""
