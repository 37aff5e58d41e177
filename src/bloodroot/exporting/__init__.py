"""What a policy says, for other programs: documents of an API, names as Python, the tree as JSON."""
