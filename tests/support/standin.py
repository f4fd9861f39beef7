#!/usr/bin/env python3
"""A mail server (RFC 5321) or an HTTP server for tests, on a free port of 127.0.0.1, which it writes to FOLDER/port.

standin.py smtp|http FOLDER [FAULT...]
Each connection meets the next fault, later ones none; "stall-STEP" says nothing at that step, and waits until the other
side has gone. Of mails: what came, in FOLDER/mail-N, with the envelope as its
first line. Of HTTP: bodies, a line each, in FOLDER/posted. Where FOLDER has server.pem and server.key, mails need
STARTTLS (RFC 3207) and AUTH PLAIN (RFC 4954), which goes to FOLDER/login."""
import os, socket, ssl, sys

kind, folder, faults = sys.argv[1], sys.argv[2], sys.argv[3:]
tls = os.path.exists(os.path.join(folder, 'server.pem'))


def file(name):
    return os.path.join(folder, name)


def smtp(connection, fault, number):
    stream = connection.makefile('rb')

    def say(text):
        connection.sendall(text.encode() + b'\r\n')

    def stalls(step):
        if fault != 'stall-' + step:
            return False
        while stream.readline():
            pass
        return True

    if fault == 'connect' or stalls('greet'):
        return
    say('554 not now' if fault == 'greet' else '220 mail.skerry.example')
    sender, to, safe, known = '', [], not tls, not tls
    while line := stream.readline():
        word = line.split()[0].upper().decode('latin-1') if line.split() else ''
        if word != 'DATA' and stalls(word.lower()):
            return
        if (word.lower() == fault and word != 'DATA') or (fault == 'ehlo' and word == 'HELO'):
            say('451 greylisted, come back later')
        elif word in ('EHLO', 'HELO'):
            say('250-mail.skerry.example\r\n250-8BITMIME\r\n250 ' + ('AUTH PLAIN' if safe and tls else 'STARTTLS' if tls else 'HELP'))
        elif word == 'STARTTLS':
            say('220 go on')
            context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
            context.load_cert_chain(file('server.pem'), file('server.key'))
            connection = context.wrap_socket(connection, server_side=True)
            stream, safe = connection.makefile('rb'), True
        elif word == 'AUTH':
            parts = line.split()
            if len(parts) < 3:
                say('334 ')
                parts.append(stream.readline().strip())
            open(file('login'), 'wb').write(parts[-1])
            known = True
            say('235 welcome')
        elif not (safe and known) and word in ('MAIL', 'RCPT', 'DATA'):
            say('530 who are you?')
        elif word == 'MAIL':
            sender, to = line.decode('latin-1').strip(), []
            say('250 ok')
        elif word == 'RCPT':
            to.append(line.decode('latin-1').strip())
            say('250 ok')
        elif word == 'DATA' and stalls('data'):
            return
        elif word == 'DATA' and fault == 'data':
            say('452 no room')
        elif word == 'DATA':
            say('354 go on')
            body = b''
            while (line := stream.readline()) not in (b'.\r\n', b''):
                body += line
                if fault == 'drop' and len(body) > 300:
                    return
            if stalls('body'):
                return
            if fault == 'body':
                say('451 try again')
                continue
            with open(file('part'), 'wb') as mail:
                mail.write((sender + ' ' + ' '.join(to) + '\n').encode() + body)
            os.rename(file('part'), file('mail-%d' % number))
            say('250 taken')
        elif word == 'QUIT':
            say('221 bye')
            return
        else:
            say('250 ok')


def http(connection, fault, number):
    stream = connection.makefile('rb')
    length = 0
    if fault == 'stall-answer':
        while stream.readline():
            pass
        return
    while (line := stream.readline()) not in (b'\r\n', b''):
        if line.lower().startswith(b'content-length:'):
            length = int(line.split(b':')[1])
    body = stream.read(length)
    if fault == 'redirect':
        connection.sendall(b'HTTP/1.1 302 Found\r\nLocation: /elsewhere\r\nContent-Length: 0\r\nConnection: close\r\n\r\n')
        return
    if fault:
        connection.sendall(('HTTP/1.1 %s No\r\nContent-Length: 0\r\nConnection: close\r\n\r\n' % fault).encode())
        return
    with open(file('posted'), 'ab') as posted:
        posted.write(body)
    connection.sendall(b'HTTP/1.1 204 Taken\r\nConnection: close\r\n\r\n')


server = socket.create_server(('127.0.0.1', 0))
with open(file('port.part'), 'w') as port:
    port.write('%d\n' % server.getsockname()[1])
os.rename(file('port.part'), file('port'))
count = 0
while True:
    connection, _ = server.accept()
    connection.settimeout(20)
    fault = faults.pop(0) if faults else ''
    count += 1
    try:
        (smtp if kind == 'smtp' else http)(connection, fault, count)
    except (OSError, ValueError):
        pass
    connection.close()
