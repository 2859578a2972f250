"""Recipes of our own: single stages and chains, each with tags and a sentence on when and why."""

from functools import cache
from typing import Literal

from salt_anvil.core.edits.base import title
from salt_anvil.core.library.chains import CHAINS
from salt_anvil.core.library.stages import STAGES, TAGS
from salt_anvil.core.recipe import Recipe, read_recipe
from salt_anvil.core.session import Element, Split, elements


@cache
def starting_points(kind: str) -> tuple[Recipe, ...]:
    """Return the recipes of our own that are one processor."""
    return tuple(
        read_recipe(
            {
                "name": name,
                "note": note,
                "tags": TAGS[name].split(),
                "chain": [{"kind": kind, "params": params}],
            }
        )
        for name, note, params in STAGES.get(kind, [])
    )


@cache
def our_recipes() -> tuple[Recipe, ...]:
    """Return all of our own: chains and splits, then single stages by kind."""
    chains = tuple(
        read_recipe({"name": name, "note": note, "tags": tags.split(), "chain": chain})
        for name, tags, note, chain in CHAINS
    )
    return chains + tuple(recipe for kind in STAGES for recipe in starting_points(kind))


def said_chain(chain: list[Element]) -> str:
    """Return what a chain is in words: "clipper, 3 bands (compressor, transient shaper)"."""
    return ", ".join(_said(element) for element in chain) or "nothing"


def _said(element: Element) -> str:
    if not isinstance(element, Split):
        return title(element)
    inner = [e for b in element.branches for e in elements(b.chain) if not isinstance(e, Split)]
    kinds = list(dict.fromkeys(title(e) for e in inner))
    return title(element) + (f" ({', '.join(kinds)})" if kinds else "")


def extent_of(recipe: Recipe) -> Literal["stage", "split", "chain", "strip"]:
    """Return what a recipe is of."""
    if recipe.strip is not None:
        return "strip"
    if len(recipe.chain) != 1:
        return "chain"
    return "split" if isinstance(recipe.chain[0], Split) else "stage"
