# The kinds of "mask:" as sed has them; the check digit of cards is beyond it, and the messages have right ones only.
s/[A-Za-z0-9._%+-]+@[A-Za-z0-9-]+(\.[A-Za-z0-9-]+)*\.[A-Za-z][A-Za-z0-9-]+/***/g
s/\b([0-9A-Fa-f]{2}[:-]){5}[0-9A-Fa-f]{2}\b/***/g
s/\b([0-9A-Fa-f]{1,4}:){1,7}(:[0-9A-Fa-f]{1,4}){1,6}\b/***/g
s/\b([0-9]{1,3}\.){3}[0-9]{1,3}\b/***/g
s/\b[0-9]{4}[ -]?[0-9]{4}[ -]?[0-9]{4}[ -]?[0-9]{1,7}\b/***/g
s/\+[0-9]{1,3}([ .\/-]?[0-9]{2,4}){2,5}/***/g
s/\b(password|passwd|passphrase|passcode|pwd|pin|secrets?|keys?|apikey|token|psk|community|bearer)([=:] *)[^ ,;]+/\1\2***/g
