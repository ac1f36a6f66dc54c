"""Dusky Sieve: reads nozzle check sheets, follows a cleaning ladder and keeps the ink book."""

__version__ = "0.1.0"
