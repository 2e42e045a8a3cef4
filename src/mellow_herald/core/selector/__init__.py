"""Selectors: expressions that pick devices, e.g. ``board = comb-s1 and site in (fernhollow, quillmere)``.

One syntax tree, two readers: ``matches`` here and a compiler to SQL in the store.
"""

from mellow_herald.core.selector.match import matches
from mellow_herald.core.selector.parse import parse_selector
from mellow_herald.core.selector.tree import And, Compare, Has, Like, Node, Not, OneOf, Or

__all__ = ["And", "Compare", "Has", "Like", "Node", "Not", "OneOf", "Or", "matches", "parse_selector"]
