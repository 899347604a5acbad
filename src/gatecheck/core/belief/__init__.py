"""The belief: hypotheses, the compiled model, and the filter. Knows nothing of tickets."""
