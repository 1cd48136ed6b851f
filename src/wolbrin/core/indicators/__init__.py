"""One catalogue of indicators: a description and a pure function each."""
