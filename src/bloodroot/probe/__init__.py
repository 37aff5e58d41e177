"""Asking the running application, as every persona, whether it does what the policy declares."""
