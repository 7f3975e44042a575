"""Outcome to PDF and tables."""
