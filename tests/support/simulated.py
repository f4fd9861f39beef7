#!/usr/bin/env python3
"""A collector that only answers, over its control socket (docs/formats.md): simulated.py SOCKET STATUS [LINE...]

To /status the file STATUS, which is read anew each time; to /follow the lines, once, and then nothing more."""
import os, socket, sys, threading, time

path, status, lines = sys.argv[1], sys.argv[2], sys.argv[3:]


def answer(connection):
    head = b''
    while b'\r\n\r\n' not in head:
        got = connection.recv(4096)
        if not got:
            return
        head += got
    connection.sendall(b'HTTP/1.1 200 OK\r\nConnection: close\r\n')
    if b' /status' in head.split(b'\r\n')[0]:
        with open(status, 'rb') as file:
            body = file.read()
        connection.sendall(b'Content-Length: %d\r\n\r\n' % len(body) + body)
    else:
        connection.sendall(b'Transfer-Encoding: chunked\r\n\r\n')
        body = ''.join('=%s\n' % line for line in lines).encode()
        connection.sendall(b'%x\r\n' % len(body) + body + b'\r\n' if body else b'')
        while connection.recv(1):
            pass
    connection.close()


if os.path.exists(path):
    os.unlink(path)
server = socket.socket(socket.AF_UNIX)
server.bind(path)
server.listen(16)
while True:
    threading.Thread(target=answer, args=(server.accept()[0],), daemon=True).start()
