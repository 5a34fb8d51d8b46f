import unittest

from isles.table import DEPTHS
from isles.water import water_over


class Water(unittest.TestCase):
    def test_is_the_depth_and_the_tide(self):
        for code, station in DEPTHS.items():
            self.assertAlmostEqual(water_over(code, 0), station["depth"] / 100 + 2)
