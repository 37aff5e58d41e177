"""Recorded requests decided again by a policy, and what of the policy they never used."""
