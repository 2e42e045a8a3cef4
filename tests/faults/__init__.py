"""One thing breaks at a time, at a moment that a seed gives, and afterwards every invariant is looked at."""
