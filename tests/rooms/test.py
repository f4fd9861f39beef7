#!/usr/bin/env python3
"""A small house with nothing wrong in it; then each rule is broken once, and packaging/rooms.py must report it with
file, line and remedy."""
import os
import subprocess
import sys

ROOMS, WORK = sys.argv[1:]  # the script, and a folder that is made and removed
CC = os.environ.get('CC', 'cc')
HOUSE = {
    'src/ROOMS': '''# comment
core/base | slices | |
core/time | zones | core/base |
store | files | core |
cli | commands | store | math
''',
    'src/core/base/slice.h': 'struct ind_slice { int length; };\nint ind_slice_length(const struct ind_slice *slice);\n',
    'src/core/base/slice.c': '#include "core/base/slice.h"\nint ind_slice_length(const struct ind_slice *slice) { return slice->length; }\n',
    'src/core/time/zone.h': 'int ind_zone(void);\n',
    'src/core/time/zone.c': '#include "core/time/zone.h"\nint ind_zone(void) { return 1; }\n',
    'src/store/live.h': 'int ind_live(void);\n',
    'src/store/live.c': '#include "store/live.h"\n#include "store/live_private.h"\n#include "core/time/zone.h"\nint ind_live(void) { return ind_zone() + ind_flush(); }\n',
    'src/store/live_private.h': 'int ind_flush(void);\n',
    'src/store/flush.c': '#include "store/live_private.h"\nint ind_flush(void) { return 2; }\n',
    'src/cli/main.c': '#include <math.h>\n#include "store/live.h"\nint main(void) { return ind_live(); }\n',
}
# What is changed -> what must be reported (all of these words in one finding).
BROKEN = [
    ('an include upwards', {'src/core/time/zone.c': '#include "core/time/zone.h"\n#include "store/live.h"\nint ind_zone(void) { return 1; }\n'},
     ['src/core/time/zone.c:2: core/time must not know store', 'move what is needed']),
    ('a call upwards', {'src/core/time/zone.c': 'int ind_live(void);\nint ind_zone(void) { return ind_live(); }\n'},
     ['src/core/time/zone.c:1: core/time must not call ind_live of store', 'let the caller pass it in']),
    ('a private header', {'src/cli/main.c': '#include "store/live_private.h"\nint main(void) { return 0; }\n'},
     ['src/cli/main.c:1: "store/live_private.h" is private to store', 'use a public header']),
    ('a library', {'src/store/flush.c': '#include "store/live_private.h"\n#include <math.h>\nint ind_flush(void) { return 2; }\n'},
     ['src/store/flush.c:2: store must not use math', 'name the library']),
    ('a name without our prefix', {'src/store/live.h': 'int ind_live(void);\n#define ROOM 3\n'},
     ['src/store/live.h:2: ROOM in a header has no prefix', 'ind_ or IND_']),
    ('a header that is not there', {'src/cli/main.c': '#include "store/gone.h"\nint main(void) { return 0; }\n'},
     ['src/cli/main.c:1: "store/gone.h" is no header of src/', 'write its path']),
    ('the clock in the core', {'src/core/time/zone.c': 'long time(long *);\nint ind_zone(void) { return (int)time(0); }\n'},
     ['src/core/time/zone.c:1: the core must not use time()', 'take what you need as a parameter']),
    ('a global in the core', {'src/core/time/zone.c': '#include "core/time/zone.h"\nint ind_calls = 3;\nint ind_zone(void) { return ind_calls++; }\n'},
     ['src/core/time/zone.c:2: ind_calls is a writable global of the core', 'make it const']),
    ('a circle of calls', {'src/store/flush.c': '#include "store/live_private.h"\n#include "store/live.h"\nint ind_flush(void) { return ind_live(); }\n'},
     ['a circle of 2 files: store/flush.c calls ind_live', 'move what both need']),
    ('a circle of headers', {'src/store/live.h': '#include "store/live_private.h"\nint ind_live(void);\n',
                             'src/store/live_private.h': '#include "store/live.h"\nint ind_flush(void);\n'},
     ['src/store/live.h:1: a circle of 2 files', 'move what both need']),
    ('a folder without a room', {'src/web/page.c': 'int ind_page;\n'}, ['src/web/page.c:1: web is no room', 'give it a line']),
    ('a room without files', {'src/ROOMS': HOUSE['src/ROOMS'] + 'web | pages | store |\n'}, ['src/ROOMS:6: web has no files', 'take the line out']),
    ('a room that uses one below it', {'src/ROOMS': HOUSE['src/ROOMS'].replace('core/base | slices | |', 'core/base | slices | cli |')},
     ['src/ROOMS:2: core/base uses cli, which no line above names', 'move one of the lines']),
    ('a column too few', {'src/ROOMS': HOUSE['src/ROOMS'].replace('store | math', 'store')}, ['src/ROOMS:5: 3 columns', 'write room']),
    ('a library nobody knows', {'src/ROOMS': HOUSE['src/ROOMS'].replace('math', 'maths math')}, ['src/ROOMS:5: unknown library maths', 'known are']),
]
CIRCLE = {'src/ROOMS': HOUSE['src/ROOMS'] + 'circle | store/live.c store/flush.c | each calls the other, by the nature of it\n',
          **BROKEN[8][1]}


def build(root):
    rooms = {}
    for folder, _, names in os.walk(f'{root}/src'):
        for name in names:
            if name.endswith('.c'):
                rooms.setdefault(os.path.relpath(folder, f'{root}/src').replace('/', '_'), []).append(f'{folder}/{name}')
    os.makedirs(f'{root}/build/objects')
    for room, sources in rooms.items():
        objects = []
        for source in sources:
            stem = os.path.basename(source)
            objects.append(f'{root}/build/objects/{stem}.o')
            subprocess.run([CC, '-w', '-fno-builtin', f'-I{root}/src', '-c', source, '-o', objects[-1]], check=False, stderr=subprocess.DEVNULL)
        objects = [name for name in objects if os.path.exists(name)]
        subprocess.run(['ar', 'rc', f'{root}/build/libind_{room}.a'] + objects, check=True)


def check(changes):
    subprocess.run(['rm', '-rf', WORK], check=True)
    for name, text in {**HOUSE, **changes}.items():
        os.makedirs(os.path.dirname(f'{WORK}/{name}'), exist_ok=True)
        with open(f'{WORK}/{name}', 'w', encoding='utf-8') as file:
            file.write(text)
    build(WORK)
    ran = subprocess.run([sys.executable, ROOMS, 'check', f'{WORK}/build'], env={**os.environ, 'IND_ROOT': WORK},
                         capture_output=True, text=True, check=False)
    subprocess.run(['rm', '-rf', WORK], check=True)
    assert ran.stderr == '', ran.stderr
    assert ran.returncode == (1 if ran.stdout else 0)
    return ran.stdout.splitlines()


def main():
    failures = 0
    for what, changes, wanted in [('nothing', {}, None), ('a circle with its reason', CIRCLE, None)] + BROKEN:
        found = check(changes)
        hits = [line for line in found if wanted and all(word in line for word in wanted)]
        if not (hits if wanted else not found):
            failures += 1
            print(f'{what}: expected {wanted}, found:', *found, sep='\n    ')
    return 1 if failures else 0


if __name__ == '__main__':
    sys.exit(main())
