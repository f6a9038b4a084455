#!/usr/bin/env python3
"""Writes idna.bin, the tables that Idna.cs reads: the UTS 46 mapping as the npm package tr46 carries it, and normalisation,
combining classes and directions from Python's unicodedata. Characters that Python does not know are left out as disallowed.

  npm ci --prefix console && python3 src/Core/Names/make-idna.py
"""
import json, pathlib, struct, unicodedata as u

here = pathlib.Path(__file__).resolve().parent
table = json.load(open(here.parents[2] / "console/node_modules/tr46/lib/mappingTable.json"))
MAPPED, VALID, DISALLOWED, DEVIATION, IGNORED = 1, 2, 3, 6, 7
DIRECTIONS = ["", "L", "R", "AL", "AN", "EN", "ES", "CS", "ET", "ON", "BN", "NSM", "B", "S", "WS"]

def assigned(cp):
    return u.category(chr(cp)) not in ("Cn", "Co", "Cs")

status = [(DISALLOWED, "")] * 0x110000
for row in table:
    span = row[0] if isinstance(row[0], list) else [row[0], row[0]]
    for cp in range(span[0], span[1] + 1):
        if assigned(cp) or row[1] == IGNORED:
            # Joiners and the sharp s keep their meaning (non-transitional processing).
            status[cp] = (VALID, "") if row[1] == DEVIATION else (row[1], row[2] if len(row) > 2 else "")

def runs(value_of):
    last = None
    for cp in range(0x110000):
        value = value_of(cp)
        if value != last:
            yield cp, value
            last = value

out = bytearray()
def section(rows):
    out.extend(struct.pack("<I", len(rows)))
    for r in rows:
        out.extend(r)

def cp24(cp):
    return struct.pack("<I", cp)[:3]

rows = []
for cp, (s, mapped) in runs(lambda cp: status[cp]):
    units = mapped.encode("utf-16-le")
    rows.append(cp24(cp) + bytes([s, len(units) // 2]) + units)
section(rows)

def facts(cp):
    c = chr(cp)
    d = DIRECTIONS.index(u.bidirectional(c)) if u.bidirectional(c) in DIRECTIONS else 9
    return d | (0x10 if u.category(c).startswith("M") else 0), u.combining(c)
section([cp24(cp) + bytes(f) for cp, f in runs(facts)])

rows = []
for cp in range(0x110000):
    d = u.decomposition(chr(cp))
    if d and not d.startswith("<"):
        parts = [int(x, 16) for x in d.split()]
        composes = len(parts) == 2 and u.normalize("NFC", "".join(map(chr, parts))) == chr(cp)
        rows.append(cp24(cp) + bytes([len(parts) | (0x10 if composes else 0)]) + b"".join(map(cp24, parts)))
section(rows)
(here / "idna.bin").write_bytes(out)
print(len(out), "bytes")
