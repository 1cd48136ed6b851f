"""The strategy model, its mirror, its words, and the decision arrays it gives."""
