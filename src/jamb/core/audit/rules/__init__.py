"""The rules, by family."""
