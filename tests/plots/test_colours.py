"""Colours can be told apart, with each common colour-vision deficiency and in grey print."""

import itertools
import unittest

import numpy as np
from matplotlib.colors import to_rgb

from millwright.plots import style

# Machado, Oliveira and Fernandes (2009), severity 1, on linear RGB.
SEEN = {
    "usual": np.eye(3),
    "without long waves": [
        [0.152286, 1.052583, -0.204868],
        [0.114503, 0.786281, 0.099216],
        [-0.003882, -0.048116, 1.051998],
    ],
    "without middle waves": [
        [0.367322, 0.860646, -0.227968],
        [0.280085, 0.672501, 0.047413],
        [-0.011820, 0.042940, 0.968881],
    ],
    "without short waves": [
        [1.255528, -0.076749, -0.178779],
        [-0.078411, 0.930809, 0.147602],
        [0.004733, 0.691367, 0.303900],
    ],
}
# CIE (2004), Colorimetry, for the white of sRGB.
XYZ = np.array(
    [
        [0.4124564, 0.3575761, 0.1804375],
        [0.2126729, 0.7151522, 0.0721750],
        [0.0193339, 0.1191920, 0.9503041],
    ]
)


def linear(colour):
    part = np.array(to_rgb(colour))
    return np.where(part <= 0.04045, part / 12.92, ((part + 0.055) / 1.055) ** 2.4)


def lab(rgb):
    x = (XYZ @ rgb) / XYZ.sum(axis=1)
    f = np.where(x > 216 / 24389, np.cbrt(x), (24389 / 27 * x + 16) / 116)
    return np.array([116 * f[1] - 16, 500 * (f[0] - f[1]), 200 * (f[1] - f[2])])


class Colours(unittest.TestCase):
    def test_every_pair_is_far_apart_for_every_eye(self):
        names = ("INK", "GREY", "BLUE", "RED", "GREEN", "YELLOW", "PURPLE")
        for eye, matrix in SEEN.items():
            seen = {
                name: lab(np.clip(np.array(matrix) @ linear(getattr(style, name)), 0, 1))
                for name in names
            }
            for one, other in itertools.combinations(names, 2):
                with self.subTest(eye=eye, pair=(one, other)):
                    self.assertGreater(np.linalg.norm(seen[one] - seen[other]), 20)

    def test_the_first_chains_differ_in_grey_and_all_in_line_or_colour(self):
        lightness = sorted(lab(linear(colour))[0] for colour, _ in style.CHAINS[:4])
        self.assertGreater(min(np.diff(lightness)), 8)
        self.assertEqual(len({str(look) for look in style.CHAINS}), len(style.CHAINS))


if __name__ == "__main__":
    unittest.main()
