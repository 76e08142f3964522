"""Public figures, one function each: a result and axes in, axes out."""
