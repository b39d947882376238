"""Drift: what readers suffer while rows come, go and move between two page requests.

`walks` defines a walk, `reference` plays one slowly and plainly, `fast` plays it with arrays, and
`expecting` holds the closed forms.
"""
