"""How flat and level is a floor, and where does water stand on it?"""
