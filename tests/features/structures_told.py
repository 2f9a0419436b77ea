"""Reading what is told of structures."""

from flinch.core.structures import PlainLeg, read_legs


def legs_of(line: dict) -> list[PlainLeg]:
    return read_legs(line["key"].split(" ", 1)[1]).options


def column(page: dict, key: str) -> list:
    found = next(c for c in page["columns"] if c["key"] == key)
    return found["texts"] or found["numbers"]
