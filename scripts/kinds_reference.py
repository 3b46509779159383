"""Prints docs/kinds-reference.md, made from the models of kind files."""

from fennox.core.kinds.describing import reference

print(reference(), end="")
