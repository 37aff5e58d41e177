"""What each result shows: a function from the result to its sheet, one module a result."""
