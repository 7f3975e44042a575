"""Sections: upright planes across lines, and what lies in them or is cut by them."""
