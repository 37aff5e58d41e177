"""The policy language in editors, by the Language Server Protocol."""
