"""Nailer: carries, mends and keeps level the files of websites on rented hosting."""

__version__ = "0.1.0"
