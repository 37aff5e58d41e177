"""What is held against the matrix: reviewed tables, what was tried, what a probe observed, who holds what."""
