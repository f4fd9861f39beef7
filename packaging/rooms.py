#!/usr/bin/env python3
"""The rooms of src/ (src/ROOMS), proved and drawn.

    rooms.py check [BUILD]   includes, private headers, names in headers, circles; with BUILD (a folder in which the
                             program was built) also the symbols of every object, and what the core may call
    rooms.py draw            writes the drawing and the table in docs/architecture.md anew
    rooms.py figures [BUILD] rooms, files, circles, the longest files

Each finding is FILE:LINE: what is wrong: what to do. Exit code 1 where there is any."""
import os
import re
import subprocess
import sys
from collections import defaultdict

LIBRARIES = {  # the headers of each library that ROOMS may name
    'xxhash': r'xxhash\.h', 'pcre2': r'pcre2\.h', 'yaml': r'yaml\.h', 'jansson': r'jansson\.h', 'sqlite': r'sqlite3\.h',
    'zstd': r'zstd\.h', 'zlib': r'zlib\.h', 'event': r'event2/.*', 'curl': r'curl/.*', 'popt': r'popt\.h',
    'openssl': r'openssl/.*', 'nats': r'nats/.*', 'ncurses': r'(curses|ncurses)\.h',
    'threads': r'pthread\.h|threads\.h', 'math': r'math\.h',
}
FORBIDDEN_IN_CORE = re.compile(
    r'(open|openat|creat|close|read|write|pread|pwrite|readv|writev|recv.*|send.*|socket|bind|connect|listen|accept'
    r'|poll|select|fopen|fclose|fread|fwrite|fprintf|printf|puts|fputs|putchar|perror|snprintf|sprintf|vsnprintf|time'
    r'|gettimeofday|clock.*|localtime.*|gmtime.*|strftime|mktime|nanosleep|sleep|pthread_.*|thrd_.*|mtx_.*|fork|exec.*'
    r'|system|getenv|exit|abort|rand|random|syslog|signal|sigaction|stdout|stderr|stdin)$')
INCLUDE = re.compile(r'\s*#\s*include\s+(["<])([^">]+)[">]')
MARKS = ('<!-- rooms: written by packaging/rooms.py draw -->', '<!-- end of rooms -->')


class Room:
    def __init__(self, name, purpose, uses, libraries, line):
        self.name, self.purpose, self.uses, self.libraries, self.line = name, purpose, uses, libraries, line
        self.reach = {name}  # with all that its rooms may use
        self.level = 0


class House:
    def __init__(self, root):
        self.root, self.rooms, self.circles, self.findings = root, {}, [], []
        self.read_rooms()
        self.files = {}   # "core/time/zone.c" -> lines
        self.find_files()

    def say(self, file, line, what, remedy):
        self.findings.append(f'{file}:{line}: {what}: {remedy}')

    def read_rooms(self):
        for number, line in enumerate(open(f'{self.root}/src/ROOMS'), 1):
            line = line.split('#')[0].strip()
            if not line:
                continue
            fields = [field.strip() for field in line.split('|')]
            if fields[0] == 'circle' and len(fields) == 3:
                self.circles.append(set(fields[1].split()))
                continue
            if len(fields) != 4:
                self.say('src/ROOMS', number, f'{len(fields)} columns', 'write room | purpose | rooms | libraries')
                continue
            self.add_room(number, fields)

    def add_room(self, number, fields):
        name, purpose, uses, libraries = fields
        names = []
        for other in uses.split():
            group = [known for known in self.rooms if known.startswith(other + '/')]
            if other not in self.rooms and not group:
                self.say('src/ROOMS', number, f'{name} uses {other}, which no line above names',
                         'a room uses only rooms above it: move one of the lines, or what needs the room')
                continue
            names += [other] if other in self.rooms else group
        room = Room(name, purpose, names, libraries.split(), number)
        for other in names:
            room.reach |= self.rooms[other].reach
            room.level = max(room.level, self.rooms[other].level + 1)
        for library in room.libraries:
            if library not in LIBRARIES:
                self.say('src/ROOMS', number, f'unknown library {library}', f'known are {", ".join(sorted(LIBRARIES))}')
        self.rooms[name] = room

    def find_files(self):
        for folder, _, names in sorted(os.walk(f'{self.root}/src')):
            room = os.path.relpath(folder, f'{self.root}/src')
            ours = [name for name in sorted(names) if name.endswith(('.c', '.h'))]
            if ours and room not in self.rooms:
                self.say(f'src/{room}/{ours[0]}', 1, f'{room} is no room', 'give it a line in src/ROOMS, or move the file')
                continue
            for name in ours:
                with open(f'{folder}/{name}', encoding='utf-8') as file:
                    self.files[f'{room}/{name}'] = file.read().split('\n')
        for room in self.rooms.values():
            if not any(room_of(file) == room.name for file in self.files):
                self.say('src/ROOMS', room.line, f'{room.name} has no files', 'take the line out')

    def place(self, file, word):
        """The first line of the file in which the word stands."""
        for number, line in enumerate(self.files.get(file, []), 1):
            if re.search(rf'\b{re.escape(word)}\b', line) and not line.lstrip().startswith(('*', '/*')):
                return number
        return 1


def room_of(file):
    return os.path.dirname(file)


def check_includes(house, edges):
    for file, lines in house.files.items():
        room = house.rooms[room_of(file)]
        for number, line in enumerate(lines, 1):
            match = INCLUDE.match(line)
            if not match:
                continue
            kind, name = match.groups()
            if kind == '<':
                for library, headers in LIBRARIES.items():
                    if re.fullmatch(headers, name) and library not in room.libraries:
                        house.say(f'src/{file}', number, f'{room.name} must not use {library} (<{name}>)',
                                  'do it in a room that may, or name the library for the room in src/ROOMS')
                continue
            if name not in house.files:
                house.say(f'src/{file}', number, f'"{name}" is no header of src/', 'write its path from src/')
                continue
            other = room_of(name)
            if other not in room.reach:
                house.say(f'src/{file}', number, f'{room.name} must not know {other} ("{name}")',
                          f'move what is needed to a room that {room.name} may use, or let the caller pass it in')
            if name.endswith('_private.h') and other != room.name:
                house.say(f'src/{file}', number, f'"{name}" is private to {other}',
                          f'use a public header of {other}, or move what is needed into one')
            edges[file].setdefault(name, (file, number, f'includes "{name}"'))


def check_names(house):
    """Types, macros and enumerators of headers bear our prefix."""
    for file, lines in house.files.items():
        if not file.endswith('.h'):
            continue
        names = []
        for number, line in enumerate(lines, 1):
            match = (re.match(r'\s*#\s*define\s+(\w+)', line) or re.match(r'typedef\b.*\b(\w+);', line)
                     or re.match(r'(?:typedef\s+)?(?:struct|enum|union)\s+(?:IND_THREAD_ATTRIBUTE\S+\s+)?(\w+)\s*\{', line))
            if match:
                names.append((number, match.group(1)))
        text = re.sub(r'/\*.*?\*/', lambda m: re.sub(r'[^\n]', ' ', m.group()), '\n'.join(lines), flags=re.S)
        for match in re.finditer(r'\benum\b[^;{}()]*\{([^}]*)\}', text):
            for name in re.finditer(r'(?:^|,)\s*(\w+)', match.group(1)):
                names.append((text.count('\n', 0, match.start(1) + name.start(1)) + 1, name.group(1)))
        for number, name in names:
            if not re.match(r'ind_|IND_|_GNU_SOURCE|_DEFAULT_SOURCE', name):
                house.say(f'src/{file}', number, f'{name} in a header has no prefix', 'begin it with ind_ or IND_')


def read_symbols(build):
    """Of each object: what it defines for others, and what it asks of them."""
    defined, asked = {}, {}
    for archive in sorted(os.listdir(build)):
        match = re.fullmatch(r'libind_(.+)\.a', archive)
        if match:
            text = subprocess.run(['nm', '-g', f'{build}/{archive}'], capture_output=True, text=True, check=True).stdout
            room, module = match.group(1), None
            for line in text.splitlines():
                header = re.fullmatch(r'(\S+)\.c\.o:', line)
                words = line.split()
                if header:
                    module = (room, header.group(1))
                    asked[module] = set()
                elif len(words) >= 2 and module:
                    kind, name = words[-2], words[-1].split('@')[0]
                    if kind == 'U':
                        asked[module].add(name)
                    elif kind in 'TDBRVWC':
                        defined[name] = module
    return defined, asked


def check_symbols(house, build, edges):
    library_of = {name.replace('/', '_'): name for name in house.rooms}
    defined, asked = read_symbols(build)
    seen = {library_of[room] for room, _ in asked if room in library_of}
    for name in house.rooms:
        if name not in seen and name != 'cli':
            house.say('src/ROOMS', house.rooms[name].line, f'{build} has no library of {name}', 'build first')
    for (library, stem), names in sorted(asked.items()):
        room = house.rooms.get(library_of.get(library))
        if not room:
            continue
        file = f'{room.name}/{stem}.c'
        for name in sorted(names):
            line = house.place(file, name)
            if room.name.startswith('core/') and FORBIDDEN_IN_CORE.match(name):
                house.say(f'src/{file}', line, f'the core must not use {name}()',
                          'it computes: take what you need as a parameter, or do this in a room above core/')
            target = defined.get(name)
            if not target or target[0] not in library_of:
                continue
            other = library_of[target[0]]
            if other not in room.reach:
                house.say(f'src/{file}', line, f'{room.name} must not call {name} of {other}',
                          f'move it to a room that {room.name} may use, or let the caller pass it in')
            if f'{other}/{target[1]}.c' != file:
                edges[file].setdefault(f'{other}/{target[1]}.c', (file, line, f'calls {name}'))


def check_core_memory(house, build):
    """Nothing to keep between calls: no writable data in the core."""
    for name in house.rooms:
        archive = f'{build}/libind_{name.replace("/", "_")}.a'
        if not name.startswith('core/') or not os.path.exists(archive):
            continue
        member = '?'
        for line in subprocess.run(['objdump', '-t', archive], capture_output=True, text=True, check=True).stdout.splitlines():
            head = re.match(r'(\S+)\.c\.o:', line)
            words = line.split()
            if head:
                member = head.group(1)
            elif '*COM*' in words or (' O ' in line and re.search(r'\s\.(data|bss)(\.(?!rel\.ro)\S*)?\s', line)):
                file = f'{name}/{member}.c'
                house.say(f'src/{file}', house.place(file, words[-1]), f'{words[-1]} is a writable global of the core',
                          'make it const, or let the caller own it')


def circles_of(edges):
    """Strongly connected sets of more than one node (Tarjan), without recursion."""
    index, low, stack, on, found = {}, {}, [], set(), []
    for root in sorted(edges):
        work = [(root, iter(sorted(edges[root])))] if root not in index else []
        if work:
            index[root] = low[root] = len(index)
            stack.append(root)
            on.add(root)
        while work:
            node, others = work[-1]
            for other in others:
                if other not in index:
                    index[other] = low[other] = len(index)
                    stack.append(other)
                    on.add(other)
                    work.append((other, iter(sorted(edges.get(other, ())))))
                    break
                if other in on:
                    low[node] = min(low[node], index[other])
            else:
                work.pop()
                if work:
                    low[work[-1][0]] = min(low[work[-1][0]], low[node])
                if low[node] == index[node]:
                    circle = set()
                    while node not in circle:
                        circle.add(stack.pop())
                    on -= circle
                    if len(circle) > 1:
                        found.append(circle)
    return found


def check_circles(house, edges):
    for circle in circles_of({node: {o for o in others if o != node} for node, others in edges.items()}):
        if any(circle <= allowed for allowed in house.circles):
            continue
        for node in sorted(circle):
            for other in sorted(set(edges[node]) & circle - {node}):
                file, line, how = edges[node][other]
                house.say(f'src/{file}', line, f'a circle of {len(circle)} files: {node} {how}, and {other} needs it in turn',
                          'move what both need below both, or pass it in; or name the circle with its reason in src/ROOMS')


def drawing(house):
    """The rooms by level: a room stands above all that it uses."""
    lines = ['```']
    top = max(room.level for room in house.rooms.values())
    for level in range(top, -1, -1):
        row = [room.name for room in house.rooms.values() if room.level == level]
        lines.append('   '.join(f'[ {name} ]' for name in row))
    lines += ['```', '', '| room | what is in it | may use | libraries |', '|---|---|---|---|']
    for room in house.rooms.values():
        direct = ' '.join(f'`{name}`' for name in shortened(house, room))
        lines.append(f'| `{room.name}/` | {room.purpose} | {direct} | {" ".join(room.libraries)} |')
    return '\n'.join(lines)


def shortened(house, room):
    core = [name for name in house.rooms if name.startswith('core/')]
    if set(core) <= set(room.uses) and len(core) > 1:
        return ['core/*'] + [name for name in room.uses if name not in core]
    return room.uses


def architecture(house):
    path = f'{house.root}/docs/architecture.md'
    text = open(path, encoding='utf-8').read()
    begin, end = text.find(MARKS[0]), text.find(MARKS[1])
    if begin < 0 or end < 0:
        return path, text, text
    return path, text, text[:begin] + MARKS[0] + '\n' + drawing(house) + '\n' + text[end:]


def figures(house, edges):
    count = defaultdict(int)
    for file in house.files:
        count[room_of(file)] += 1
    print(f'{len(house.rooms)} rooms, {len(house.files)} files; the largest rooms: '
          + ', '.join(f'{name} {n}' for name, n in sorted(count.items(), key=lambda item: -item[1])[:5]))
    print(f'{len(circles_of(edges))} circles of files')
    long = sorted(((len(lines) - 1, file) for file, lines in house.files.items() if len(lines) > 501), reverse=True)
    print(f'{len(long)} files of more than 500 lines: ' + ', '.join(f'{file} {n}' for n, file in long))


def main(arguments):
    if not arguments or arguments[0] not in ('check', 'draw', 'figures') or len(arguments) > 2:
        print(__doc__, file=sys.stderr)
        return 2
    root = os.environ.get('IND_ROOT') or os.path.dirname(os.path.dirname(os.path.abspath(__file__)))
    house, edges = House(root), defaultdict(dict)
    if arguments[0] == 'draw':
        path, _, new = architecture(house)
        open(path, 'w', encoding='utf-8').write(new)
        return 0
    check_includes(house, edges)
    if len(arguments) > 1:
        check_symbols(house, arguments[1], edges)
    if arguments[0] == 'figures':
        figures(house, edges)
        return 0
    check_names(house)
    if len(arguments) > 1:
        check_core_memory(house, arguments[1])
    check_circles(house, edges)
    if os.path.exists(f'{root}/docs/architecture.md'):
        _, old, new = architecture(house)
        if old != new:
            house.say('docs/architecture.md', old[:old.find(MARKS[0])].count('\n') + 1, 'its rooms are not those of src/ROOMS',
                      'run packaging/rooms.py draw')
    for finding in house.findings:
        print(finding)
    return 1 if house.findings else 0


if __name__ == '__main__':
    sys.exit(main(sys.argv[1:]))
