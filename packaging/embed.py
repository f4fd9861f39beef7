#!/usr/bin/env python3
"""Writes files as C, to be built in: packaging/embed.py OUT.c NAME=FILE...

Of each: `const char ind_page_NAME[]`, its length, and the hash by which a content security policy knows it (CSP level 3,
section 2.3.1). What a page cannot hold within a script or style element is refused."""
import base64, hashlib, sys

out = ['/* Made by packaging/embed.py. */', '#include "report/page.h"', '']
for argument in sys.argv[2:]:
    name, path = argument.split('=', 1)
    with open(path, 'rb') as file:
        text = file.read()
    text = text.replace(b'//# sourceMappingURL=', b'// ')
    for mark in (b'</script', b'</style', b'<!--'):
        if mark in text.lower():
            sys.exit('%s: has %s in it, which would end its element' % (path, mark.decode()))
    digest = base64.b64encode(hashlib.sha256(text).digest()).decode()
    out.append('const struct ind_page_part ind_page_%s = {' % name)
    out.append('    (const char[]){')
    for i in range(0, len(text), 40):
        out.append('        ' + ','.join(str(byte - 256 if byte > 127 else byte) for byte in text[i:i + 40]) + ',')
    out.append('        0},')
    out.append('    %d, "sha256-%s"};' % (len(text), digest))
with open(sys.argv[1], 'w') as file:
    file.write('\n'.join(out) + '\n')
