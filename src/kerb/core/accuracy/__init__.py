"""How well heights agree with points that were measured better: heights at points, and the statistics of differences."""
