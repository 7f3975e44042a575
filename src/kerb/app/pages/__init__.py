"""Pages of the right side: a holding looked over, open data, the field controller."""
