"""Who is calling: token claims, sessions, trusted headers, and a directory for the present roles."""

from .identification import Identification, directory_of, load

__all__ = ["Identification", "directory_of", "load"]
