"""Prints docs/kinds-reference.md, made from the models of kind files."""

from fennox.core.kind_files.description import reference

print(reference(), end="")
