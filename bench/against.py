#!/usr/bin/env python3
"""Times a build against another one of this project, such as that of the commit before: whole commands, and the rows of
bench_*. Usage: bench/against.py BUILD OTHER [ROUNDS]

The two run in turn; a row is the median of the rounds' ratios, time of BUILD to time of OTHER: 1.03 is three per cent slower."""
import os
import re
import subprocess
import sys
import time

HERE = os.path.dirname(os.path.abspath(__file__))
CONFIGS = {
    'plain': 'routes: [{name: a, file: a.log}]\n',
    'many': '''routes:
  - {name: a, file: "{facility}/{severity}.log"}
  - {name: b, when: 'host starts with "mv-" and text contains "is down"', file: "{device}.log", layout: json}
''',
}
MEGABYTES = 200


def median(values):
    values = sorted(values)
    middle = len(values) // 2
    return values[middle] if len(values) % 2 else (values[middle - 1] + values[middle]) / 2


def seconds(*arguments):
    start = time.monotonic()
    subprocess.run(arguments, stdout=subprocess.DEVNULL, check=True)
    return time.monotonic() - start


def collect(program, config):
    subprocess.run(['rm', '-rf', 'store', 'state'], check=True)
    return seconds(program, 'collect', '-c', config, '--from', 'in.log')


def in_turn(rounds, measure):
    """The median ratio of BUILD to OTHER, and the best time of OTHER."""
    ratios, best = [], None
    for _ in range(rounds):
        other, ours = measure(1), measure(0)
        ratios.append(ours / other)
        best = other if best is None else min(best, other)
    return median(ratios), best


def commands(builds, rounds):
    programs = [f'{build}/indagator' for build in builds]
    for name, text in CONFIGS.items():
        with open(f'{name}.yaml', 'w', encoding='utf-8') as file:
            file.write('store: store\nstate: state\nzone: UTC\n' + text)
    yield 'collect --from, into one file', in_turn(rounds, lambda i: collect(programs[i], 'plain.yaml'))
    yield 'collect --from, into many files', in_turn(rounds, lambda i: collect(programs[i], 'many.yaml'))
    yield 'rehearse', in_turn(rounds, lambda i: seconds(programs[i], 'rehearse', '-c', 'many.yaml', 'in.log'))
    for name, arguments in (('search for a word', ['--when', 'text contains "is down"']),
                            ('search for a severity', ['--when', 'severity at least error']),
                            ('search --by device', ['--by', 'device'])):
        yield name, in_turn(rounds, lambda i, a=arguments: seconds(programs[i], 'search', '-c', 'many.yaml', *a))


def rows(program):
    """Name and first figure of each row: millions a second, or nanoseconds."""
    ran = subprocess.run([program, '0.5'], capture_output=True, text=True, check=False)
    for line in ran.stdout.splitlines():
        fields = line.split('\t')
        if len(fields) > 2 and re.fullmatch(r'[0-9.]+', fields[1]):
            yield '\t'.join([fields[0]] + [f for f in fields[3:] if not re.fullmatch(r'[0-9.]+', f)]), float(fields[1])


def benches(builds, rounds):
    for name in ('header', 'payload', 'devices', 'patterns'):
        found = {}
        for _ in range(rounds):
            pair = [dict(rows(f'{build}/bench/bench_{name}')) for build in (builds[1], builds[0])]
            for row, value in pair[0].items():
                if pair[1].get(row):
                    found.setdefault(row, []).append(value / pair[1][row])
        for row, ratios in found.items():
            yield f'bench_{name}: ' + row.replace('\t', ' ').strip(), (median(ratios), None)


def main():
    builds = [os.path.realpath(build) for build in sys.argv[1:3]]
    rounds = int(sys.argv[3]) if len(sys.argv) > 3 else 7
    work = subprocess.run(['mktemp', '-d'], capture_output=True, text=True, check=True).stdout.strip()
    try:
        os.chdir(work)
        with open('in.log', 'wb') as file:
            subprocess.run(['mawk', '-v', f'size={MEGABYTES}000000', '-f', f'{HERE}/messages.awk'], stdout=file, check=True)
        print('| what | time to that of the other build | seconds of the other |\n|---|---|---|')
        for what, (ratio, best) in [*commands(builds, rounds), *benches(builds, rounds)]:
            print(f'| {what} | {ratio:.2f} | {"" if best is None else f"{best:.2f}"} |', flush=True)
    finally:
        subprocess.run(['rm', '-rf', work], check=True)


if __name__ == '__main__':
    main()
