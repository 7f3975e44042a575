"""The made-up scenario Saltmarrow Quay, generated with known truth."""
