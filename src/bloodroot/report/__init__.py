"""Results for people and for programs, one module a format."""
