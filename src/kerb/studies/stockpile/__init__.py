"""How much is in a heap: volume over a base, with its uncertainty."""

from kerb.studies.stockpile.run import HeapData, run
from kerb.studies.stockpile.setup import BASES, StockpileSetup

__all__ = ["BASES", "HeapData", "StockpileSetup", "run"]
