"""Fernhollow Seed Bank: a small application with pages for people and an API for programs."""
