"""The policy language: text to tree and back, with problems that know their place."""
