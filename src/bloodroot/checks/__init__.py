"""Checks: what is wrong in a policy, or likely to be, found before anyone calls. One module a family of findings."""
