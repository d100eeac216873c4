#!/usr/bin/env python3
"""Empties the places of keys that are not in use, which are filled with chance: a small fixture. Ran on one.raw and two.raw after recipe.sh."""
import json, struct, sys

PART = {"one.raw": {8: 1 << 20, 10: 0}, "two.raw": {8: 1 << 20, 10: 0}}
for name in sys.argv[1:]:
    with open(name, "r+b") as file:
        file.seek(1024)
        table = file.read(128 * 128)
        for number, skip in PART[name].items():
            first = struct.unpack_from("<Q", table, (number - 1) * 128 + 32)[0] * 512
            starts = [first + skip] if skip == 0 else [first + at for at in (1 << 20, 2 << 20, 4096, 8192, 0, 512 << 10, 15 << 20)]
            for start in starts:
                file.seek(start)
                head = file.read(4096)
                if not head.startswith(b"LUKS\xba\xbe"):
                    continue
                if struct.unpack_from(">H", head, 6)[0] == 1:
                    for slot in range(8):
                        active, _, _, at, stripes = struct.unpack_from(">II32sII", head, 208 + slot * 48)
                        if active != 0xAC71F3:
                            file.seek(start + at * 512)
                            file.write(bytes(256 << 10))
                    break
                size = struct.unpack_from(">Q", head, 8)[0]
                text = json.loads(file.read(size - 4096).split(b"\0")[0])
                used = max(int(slot["area"]["offset"]) + int(slot["area"]["size"]) for slot in text["keyslots"].values())
                end = int(text["segments"]["0"]["offset"])
                file.seek(start + used)
                file.write(bytes(min(end, 2 * size + int(text["config"]["keyslots_size"])) - used))
                print(name, number, "kept up to", used, "of", end)
                break
            else:
                print(name, number, "nothing found")
