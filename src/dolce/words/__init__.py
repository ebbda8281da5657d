"""Sentences by key: for every kind of value that the core finds, what pages, commands, files and reports say of it.

Each is a `match` over all kinds, which mypy checks for missing ones. The next line of the pages, whose sentences stand
beside their buttons, is in `dolce.web.shared.next_line`.
"""
