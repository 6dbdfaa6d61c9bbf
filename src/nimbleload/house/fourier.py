"""A fast Fourier transform for compiled code (Numba has none): radix 2, decimation in time, in place, single precision.

J. W. Cooley, J. W. Tukey, "An Algorithm for the Machine Calculation of Complex Fourier Series", 1965. Real and
imaginary parts lie in two arrays, so that the inner loop fills vector registers.
"""

import numpy as np
from numba import njit


def twiddles(size):
    """The factors for `transform`, stage after stage: cosines then sines of each stage (2 × (size − 1), float32)."""
    stages = []
    half = 1
    while half < size:
        angle = -np.pi * np.arange(half) / half
        stages.append((np.cos(angle), np.sin(angle)))
        half *= 2
    joined = [np.concatenate(part) for part in zip(*stages, strict=True)]
    return np.concatenate(joined).astype(np.float32)


@njit(cache=True)
def reorder(real, imag):
    """Swaps every element with the one at its bit-reversed place."""
    size = len(real)
    j = 0
    for i in range(1, size):
        bit = size >> 1
        while j & bit:
            j ^= bit
            bit >>= 1
        j ^= bit
        if i < j:
            real[i], real[j] = real[j], real[i]
            imag[i], imag[j] = imag[j], imag[i]


@njit(cache=True, fastmath=True)
def transform(real, imag, factors):
    """The forward transform of real + i·imag (size a power of two, float32), in place.

    The inverse is the same with real and imag exchanged, divided by the size.
    """
    size = len(real)
    reorder(real, imag)
    half = 1
    at = 0
    while half < size:
        cosine = factors[at : at + half]
        sine = factors[size - 1 + at : size - 1 + at + half]
        for start in range(0, size, 2 * half):
            low_r, low_i = real[start : start + half], imag[start : start + half]
            high_r, high_i = real[start + half : start + 2 * half], imag[start + half : start + 2 * half]
            for k in range(half):
                r = high_r[k] * cosine[k] - high_i[k] * sine[k]
                i = high_r[k] * sine[k] + high_i[k] * cosine[k]
                high_r[k], high_i[k] = low_r[k] - r, low_i[k] - i
                low_r[k], low_i[k] = low_r[k] + r, low_i[k] + i
        at += half
        half *= 2
