"""Access, tested in an application's own suite.

A class that derives from `AccessTest` has a test for each endpoint, with a sub-test for each persona, and clients that
act as personas.
"""

from ..probe.credentials import Credentials
from .access_test import AccessTest
from .client import Client

__all__ = ["AccessTest", "Client", "Credentials"]
