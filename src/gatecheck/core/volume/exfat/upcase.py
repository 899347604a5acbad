"""The table of capitals of exFAT that its specification recommends.

Microsoft, "exFAT file system specification", 7.2.5.1, table 24: it stands on nearly every volume.
"""

from __future__ import annotations

import struct
import zlib
from base64 import b85decode

from gatecheck.core.volume.exfat.read import USUAL_SIZE

_USUAL = (
    b"c-muN80tWQ3^;rMss2XgxBq8gU}T^zX29SR)<IkMAoFbhGhoOe(+Kwb|1e%GlvVd1yWfy?p@#sf$cg{Ramj>6;`fO^3E|I#BQ9tWzxdQaz}2e|ksDVTu!I>leU}){0m-vK$iQ$4h)=_HoCTBT;rxpXmw_bbH3;uA"
    b"#6B>24K3$Lf(33dAV>(ymEk53x+AH)%`ggv7pVIWg0!?jjX@O*i7BDwv4}Y^*aIOpKzjcC`JVwtsWdoiXJi;a08+0Eqa=)}S0ABbemc8_lrS1Bz<`SI|Nn2|QXfalM}|R^?uG&$F5!m&KmMaabl>5VBUL{+=7UtA"
    b"V$#gt_J7;|RZutw2pfQK0uVL<A+_C)OP+z@JIQSjP89vP0Yd)ge{#$p1*2fF0vRfpAwU2kO7Z{yy_uyLNQeLbyRjQE&=O*{<O#KDhi@%U9!QX(9{m4b`qIcAiyUYG0Q|lr8U"
)
"""of each unit its place less what stands there; FFFFh and how many for stretches without capitals, as in the table
itself"""


def usual_capitals() -> bytes:
    told = struct.unpack(f"<{USUAL_SIZE // 2}H", zlib.decompress(b85decode(_USUAL)))
    found: list[int] = []
    place, skips = 0, False
    for number, unit in enumerate(told):
        if skips:
            found.append(unit)
            place, skips = place + unit, False
        elif unit == 0xFFFF and number + 1 < len(told):
            found.append(unit)
            skips = True
        else:
            found.append(place - unit & 0xFFFF)
            place += 1
    return struct.pack(f"<{len(found)}H", *found)
