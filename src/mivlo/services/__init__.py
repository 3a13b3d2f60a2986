"""Use cases, one function each. Everything above this layer only translates."""
