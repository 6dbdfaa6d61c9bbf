"""Colours: what they mean cannot be mistaken for what is only told apart by them."""

from __future__ import annotations

import itertools

import numpy as np
import pytest

from nimbleload.app.balance.block_view import PLAIN, textured
from nimbleload.app.look.theme import TEXTURES, THEMES, TILE, theme
from nimbleload.core.session.plugins import FAMILIES


def oklab(colour: str) -> np.ndarray:
    """Björn Ottosson's OKLab, in which distances are about as large as they look."""
    c = np.array([int(colour[i : i + 2], 16) for i in (1, 3, 5)]) / 255
    linear = np.where(c <= 0.04045, c / 12.92, ((c + 0.055) / 1.055) ** 2.4)
    lms = np.cbrt(np.array([[0.4122214708, 0.5363325363, 0.0514459929], [0.2119034982, 0.6806995451, 0.1073969566],
                            [0.0883024619, 0.2817188376, 0.6299787005]]) @ linear)  # fmt: skip
    return np.array([[0.2104542553, 0.7936177850, -0.0040720468], [1.9779984951, -2.4285922050, 0.4505937099],
                     [0.0259040371, 0.7827717662, -0.8086757660]]) @ lms  # fmt: skip


def apart(one: str, other: str) -> float:
    return float(np.linalg.norm(oklab(one) - oklab(other)))


@pytest.mark.parametrize("name", THEMES)
def test_no_family_looks_like_fits_tight_or_overload(name):
    of = THEMES[name]
    for family, colour in of.families.items():
        lab = oklab(colour)
        for meaning in (of.teal, of.brass, of.brick):
            assert apart(colour, meaning) > 0.07, (family, meaning)
            assert np.hypot(*lab[1:]) < 0.95 * np.hypot(*oklab(meaning)[1:]), (family, meaning)
        assert apart(colour, of.panel) > 0.08


@pytest.mark.parametrize("name", THEMES)
def test_families_that_are_near_in_colour_have_another_texture(name):
    of = THEMES[name]
    assert set(of.families) == set(FAMILIES)
    for one, other in itertools.combinations(FAMILIES, 2):
        near = apart(of.families[one], of.families[other]) < 0.07
        assert not near or TEXTURES.get(one) != TEXTURES.get(other) or one == "other" or other == "other", (one, other)


def test_textures_fill_their_tile():
    for rows in TEXTURES.values():
        assert len(rows) == TILE
        assert {len(row) for row in rows} == {TILE}


def test_a_lane_is_drawn_in_two_shades_where_its_family_has_a_texture():
    plain, lined = (len(PLAIN) + FAMILIES.index(name) for name in ("instrument", "dynamics"))
    lane = np.array([0] * 6 + [plain] * 6 + [lined] * 12, np.uint8)
    found = textured(lane, 9)
    assert found.shape == (9, 24)
    assert np.array_equal(found[:, :12], np.tile(lane[:12], (9, 1)))
    # Vertical lines: one darker column in each tile, the same in each row.
    darker = found[:, 12:] == lined + len(FAMILIES)
    assert darker.sum(axis=1).tolist() == [2] * 9
    assert (darker == darker[0]).all()


def test_a_brush_shows_the_texture_of_its_family(qapp):
    tile = theme.family_brush("reverb").texture().toImage()
    light, dark = theme.family_shades("reverb")
    for y, row in enumerate(TEXTURES["reverb"]):
        wanted = [dark if mark == "#" else light for mark in row]
        assert [tile.pixelColor(x, y).name() for x in range(TILE)] == [colour.name() for colour in wanted]
