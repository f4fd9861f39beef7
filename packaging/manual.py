#!/usr/bin/env python3
"""Manual pages and completions, from the tables of the commands and from docs/.

    manual.py TABLES DOCS OUTPUT SCDOC VERSION

TABLES is the program built from packaging/tables.c. What a table holds is taken from it; the rest are pages of docs/,
written as scdoc."""
import os
import re
import subprocess
import sys

tables, docs, output, scdoc, version = sys.argv[1:6]
DATE = os.environ.get('SOURCE_DATE_EPOCH', '1795910400')  # 2026-11-29: of the last change to what the pages say
FILES = {'FILE', 'PATH'}
KINDS = 'routes patterns policies edits devices'  # of names that "check --names" prints


class Command:
    def __init__(self, name='', summary='', arguments=''):
        self.name, self.summary, self.arguments, self.about, self.options = name, summary, arguments, [], []


def read_tables():
    common, commands = Command(), []
    for line in subprocess.run([tables], capture_output=True, text=True, check=True).stdout.split('\n'):
        fields = line.split('\t')
        now = commands[-1] if commands else common
        if fields[0] == 'command':
            commands.append(Command(*fields[1:4]))
        elif fields[0] == 'option':
            now.options.append(tuple(fields[1:5]))
        elif fields[0] == '+':
            now.about.append(fields[1])
    return common, commands


# ---- scdoc ----

def plain(text):
    """Text that means nothing to scdoc."""
    return re.sub(r'([*_\\#\[\]|<>`~])', r'\\\1', text.replace('…', '...'))


def inline(text):
    """A line of Markdown: code and bold become bold, a link its text."""
    out, at = [], 0
    for match in re.finditer(r'`([^`]+)`|\*\*([^*]+)\*\*|!?\[([^\]]+)\]\(([^)]+)\)', text):
        out.append(plain(text[at:match.start()]))
        code, bold, link = match.group(1), match.group(2), match.group(3)
        if link is not None:
            out.append(inline(link) if '`' in link else plain(link))
        else:
            out.append('*' + plain(code if code is not None else bold) + '*')
        at = match.end()
    out.append(plain(text[at:]))
    # scdoc takes an underscore or a star at the edge of a word for a mark
    return ''.join(out).rstrip()


def table(rows):
    """A table as a list: terminals are narrow."""
    head, out = rows[0], []
    for row in rows[2:]:
        out.append(f'{inline(row[0])}')
        for name, cell in zip(head[1:], row[1:]):
            if cell.strip():
                label = f'{plain(name.strip())}: ' if len(head) > 2 and name.strip() and not name.strip().startswith('what') else ''
                out.append(f'\t{label}{inline(cell.strip())}')
                out.append('')
        if out[-1] != '':
            out.append('')
    return out


def cells(line):
    return [cell.replace('\0', '|').strip() for cell in line.replace('\\|', '\0').strip().strip('|').split('|')]


def scd(markdown):
    out, lines, at = [], markdown.split('\n'), 0
    while at < len(lines):
        line = lines[at]
        if line.startswith('```'):
            out.append('```')
            at += 1
            while not lines[at].startswith('```'):
                out.append(lines[at])
                at += 1
            out += ['```', '']
        elif line.startswith('|') and at + 1 < len(lines) and re.match(r'\|[-| ]+\|$', lines[at + 1]):
            rows = []
            while at < len(lines) and lines[at].startswith('|'):
                rows.append(cells(lines[at]))
                at += 1
            out += table(rows)
            continue
        elif line.startswith('#'):
            level, title = re.match(r'(#+) *(.*)', line).groups()
            if level == '#':
                pass
            else:
                out += [('# ' if level == '##' else '## ') + plain(title.replace('`', '')).upper()
                        if level == '##' else '## ' + plain(title.replace('`', '')), '']
        elif re.match(r'\s*- ', line):
            while at < len(lines) and lines[at].strip() and not lines[at].startswith(('#', '```', '|')):
                item = re.match(r'\s*- (.*)', lines[at])
                if item:
                    out.append('- ' + inline(item.group(1)))
                else:
                    out[-1] += ' ' + inline(lines[at].strip())
                at += 1
            out.append('')
            continue
        elif line.strip().startswith('<!--'):
            pass
        elif line.strip():
            paragraph = []
            while at < len(lines) and lines[at].strip() and not lines[at].startswith(('#', '```', '|', '- ')):
                paragraph.append(lines[at].strip())
                at += 1
            text = inline(' '.join(paragraph))
            out += [('\\' + text) if text.startswith(('.', '-', '!')) else text, '']
            continue
        at += 1
    return '\n'.join(out)


def tidy(roff):
    """Without the paragraphs that hold nothing, which scdoc writes behind headings and at the ends of lists."""
    lines = roff.split('\n')
    kept = []
    for i, line in enumerate(lines):
        if line == '.P':
            following = next((other for other in lines[i + 1:] if other), '.SH')
            before = next((other for other in reversed(kept) if other), '')
            if following.startswith(('.P', '.SH', '.SS', '.RS', '.RE', '.nf')) or before.startswith(('.SH', '.SS', '.P', '.TH')):
                continue
        kept.append(line)
    return '\n'.join(kept)


def write_page(name, section, body):
    source = f'{name}({section}) "indagator {version}"\n\n{body}'
    source = re.sub(r'\n{3,}', '\n\n', source).rstrip() + '\n'
    environment = dict(os.environ, SOURCE_DATE_EPOCH=DATE)
    made = subprocess.run([scdoc], input=source, capture_output=True, text=True, env=environment)
    if made.returncode:
        sys.stderr.write(f'{name}({section}): {made.stderr}')
        number = re.search(r'at (\d+),', made.stderr)
        if number:
            sys.stderr.write(source.split('\n')[int(number.group(1)) - 1] + '\n')
        sys.exit(1)
    with open(f'{output}/{name}.{section}', 'w') as out:
        out.write(tidy(made.stdout))


def options_text(options):
    out = []
    for name, short, argument, text in options:
        words = (f'*-{short}*, ' if short != '-' else '') + f'*--{plain(name)}*'
        out += [words + (f' {plain(argument)}' if argument else ''), f'\t{plain(text)}', '']
    return '\n'.join(out)


def command_page(command, common):
    about, example, within = [], [], False
    for line in command.about:
        if line.startswith('Example'):
            within = True
        elif within:
            example.append(line.strip())
        else:
            about.append(line)
    paragraphs = [plain(' '.join(part.split('\n'))) for part in '\n'.join(about).strip().split('\n\n')]
    body = (f'# NAME\n\nindagator-{command.name} - {plain(command.summary)}\n\n'
            f'# SYNOPSIS\n\n*indagator {command.name}* {plain(command.arguments)}\n\n'
            f'# DESCRIPTION\n\n' + '\n\n'.join(paragraphs) + '\n\n')
    if command.options:
        body += f'# OPTIONS\n\n{options_text(command.options)}\n'
    body += f'# OPTIONS OF ALL COMMANDS\n\n{options_text(common.options)}\n'
    if example:
        body += '# EXAMPLES\n\n```\n' + '\n'.join(example).strip() + '\n```\n\n'
    body += EXIT + '# SEE ALSO\n\n*indagator*(1), *indagator.yaml*(5), *indagator-conditions*(7)\n'
    write_page(f'indagator-{command.name}', 1, body)


EXIT = '''# EXIT STATUS

*0*
	done

*1*
	a negative answer: nothing found, or a mistake in the configuration

*2*
	the call or the configuration is wrong

*3*
	it could not be carried out, or only in part

'''


def program_page(common, commands):
    body = ('# NAME\n\nindagator - collects syslog from network devices, files it, and finds things in it again\n\n'
            '# SYNOPSIS\n\n*indagator* COMMAND \\[options\\]\n\n# DESCRIPTION\n\n'
            'Receives syslog over UDP, TCP, TLS and local sockets, files it by facility and severity or by any other '
            'rules, rotates and compresses the files, and searches them. Every message is accounted for.\n\n'
            '# COMMANDS\n\n')
    for command in commands:
        body += f'*{command.name}*\n\t{plain(command.summary)}; see *indagator-{command.name}*(1)\n\n'
    body += (f'# OPTIONS\n\n{options_text(common.options)}\n{EXIT}# FILES\n\n'
             './indagator.yaml, /etc/indagator/indagator.yaml\n\tthe configuration, see *indagator.yaml*(5)\n\n'
             '/var/log/indagator\n\tthe store, where the configuration names no other\n\n'
             '/var/lib/indagator\n\tthe state folder, likewise\n\n# SEE ALSO\n\n'
             '*indagator.yaml*(5), *indagator-conditions*(7), *indagator-patterns*(7), *indagator-edits*(7), '
             '*indagator-messages*(7)\n')
    write_page('indagator', 1, body)


def document_page(name, section, document, summary):
    text = open(f'{docs}/{document}').read()
    introduction, _, rest = text.partition('\n## ')
    head = scd(introduction)
    body = f'# NAME\n\n{name} - {summary}\n\n# DESCRIPTION\n\n{head}\n\n'
    body += scd('## ' + rest) if rest else ''
    write_page(name, section, body + '\n\n# SEE ALSO\n\n*indagator*(1)\n')


# ---- Completions ----

def bash(common, commands):
    names = ' '.join(command.name for command in commands)
    cases = ''
    for command in commands:
        words = ' '.join(f'--{option[0]}' for option in command.options + common.options)
        cases += f'        {command.name}) words="{words}" ;;\n'
    options = [option for command in commands + [common] for option in command.options]
    with_file, with_word = (sorted({option[0] for option in options if value_of(option) == value})
                            for value in ('file', 'word'))
    return f'''# Completions of indagator for bash. Made from the tables of its options.
_indagator_config() {{
    local i
    for ((i = 1; i < COMP_CWORD; i++)); do
        case ${{COMP_WORDS[i]}} in -c | --config) printf -- '-c\\n%s\\n' "${{COMP_WORDS[i + 1]}}" ;; esac
    done
}}
_indagator_names() {{ # KIND: names that the configuration gives
    local config
    mapfile -t config < <(_indagator_config)
    indagator check --names "$1" "${{config[@]}}" 2>/dev/null
}}
_indagator() {{
    local now=${{COMP_WORDS[COMP_CWORD]}} before=${{COMP_WORDS[COMP_CWORD - 1]}} command='' words i
    for ((i = 1; i < COMP_CWORD; i++)); do
        case ${{COMP_WORDS[i]}} in
        -c | --config) i=$((i + 1)) ;;
        -*) ;;
        help) ;;
        *) command=${{COMP_WORDS[i]}} && break ;;
        esac
    done
    COMPREPLY=()
    case $before in
    --name) mapfile -t COMPREPLY < <(compgen -W "$(_indagator_names patterns)" -- "$now") && return ;;
    --names) mapfile -t COMPREPLY < <(compgen -W '{KINDS}' -- "$now") && return ;;
    -c | {' | '.join('--' + name for name in with_file)}) mapfile -t COMPREPLY < <(compgen -f -- "$now") && return ;;
    {' | '.join('--' + name for name in with_word)}) return ;;
    esac
    if [[ -z $command ]]; then
        mapfile -t COMPREPLY < <(compgen -W "{names} help --config --help --version" -- "$now")
        return
    fi
    if [[ $now == -* ]]; then
        case $command in
{cases}        esac
        mapfile -t COMPREPLY < <(compgen -W "$words" -- "$now")
    else
        mapfile -t COMPREPLY < <(compgen -f -- "$now")
    fi
}}
complete -o filenames -F _indagator indagator
'''


def value_of(option):
    """What its value is: a pattern's name, a kind of names, a file, another word, or '' where it takes none."""
    name, _, argument, _ = option
    if name == 'name':
        return 'pattern'
    if name == 'names':
        return 'kind'
    return 'file' if argument in FILES else 'word' if argument else ''


def quoted(text):
    return text.replace("'", "'\\''")


def zsh(common, commands):
    def argument(option):
        name, short, argument, text = option
        words = re.sub(r'([\[\]:])', r'\\\1', quoted(text))
        action = {'pattern': ':pattern:_indagator_names patterns', 'kind': f':kind:({KINDS})',
                  'file': ':file:_files', 'word': f':{argument.lower()}:', '': ''}[value_of(option)]
        out = f"'--{name}[{words}]{action}'"
        if short != '-':
            out += f" '-{short}[{words}]{action}'"
        return out

    cases = ''
    for command in commands:
        options = ' \\\n            '.join(argument(option) for option in command.options + common.options)
        cases += f"        {command.name}) _arguments \\\n            {options} \\\n            '*:file:_files' ;;\n"
    lines = '\n'.join(f"        '{command.name}:{quoted(command.summary)}'" for command in commands)
    return f'''#compdef indagator
# Completions of indagator for zsh. Made from the tables of its options.
_indagator_names() {{
    local -a config names
    (( ${{words[(I)-c]}} )) && config=(-c ${{words[${{words[(I)-c]}} + 1]}})
    names=(${{(f)"$(indagator check --names $1 $config 2>/dev/null)"}})
    compadd -a names
}}
_indagator() {{
    local line
    local -a commands
    commands=(
{lines}
    )
    _arguments -C '-c[the configuration]:file:_files' '--help[this help]' '--version[the version]' \\
        '1:command:->command' '*::argument:->argument'
    case $state in
    command) _describe command commands ;;
    argument)
        case $line[1] in
{cases}        esac ;;
    esac
}}
_indagator "$@"
'''


def fish(common, commands):
    names = ' '.join(command.name for command in commands)
    out = ['# Completions of indagator for fish. Made from the tables of its options.',
           'complete -c indagator -f',
           f"complete -c indagator -n 'not __fish_seen_subcommand_from {names}' -a help -d 'help on a command'"]
    for command in commands:
        out.append(f"complete -c indagator -n 'not __fish_seen_subcommand_from {names}' -a {command.name} "
                   f"-d '{fish_text(command.summary)}'")
    for option in common.options:
        out.append(fish_option('', option))
    for command in commands:
        for option in command.options:
            out.append(fish_option(f" -n '__fish_seen_subcommand_from {command.name}'", option))
        out.append(f"complete -c indagator -n '__fish_seen_subcommand_from {command.name}' -F")
    return '\n'.join(out) + '\n'


def fish_text(text):
    return text.replace('\\', '\\\\').replace("'", "\\'")


def fish_option(where, option):
    name, short, argument, text = option
    values = {'pattern': " -x -a '(indagator check --names patterns 2>/dev/null)'",
              'kind': f" -x -a '{KINDS}'", 'file': ' -r -F', 'word': ' -x', '': ''}[value_of(option)]
    return (f"complete -c indagator{where} -l {name}" + (f' -s {short}' if short != '-' else '') + values +
            f" -d '{fish_text(text)}'")


def main():
    os.makedirs(output, exist_ok=True)
    common, commands = read_tables()
    program_page(common, commands)
    for command in commands:
        command_page(command, common)
    document_page('indagator.yaml', 5, 'configuration.md', 'the configuration of indagator')
    document_page('indagator-conditions', 7, 'conditions.md', 'the language of conditions of indagator')
    document_page('indagator-patterns', 7, 'pattern-language.md', 'the language of patterns of indagator')
    document_page('indagator-edits', 7, 'edits.md', 'what changes messages before indagator files them')
    document_page('indagator-messages', 7, 'own-messages.md', 'what indagator says of itself')
    for name, text in (('indagator.bash', bash(common, commands)), ('_indagator', zsh(common, commands)),
                       ('indagator.fish', fish(common, commands))):
        with open(f'{output}/{name}', 'w') as out:
            out.write(text)


main()
