"""Puts the seed bank's data back: python -m seedbank.reset"""

from . import data

if __name__ == "__main__":
    data.reset()
