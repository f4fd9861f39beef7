/* tests/support/odd.h: pieces of texts that stored lines, and those who read them, may stumble over. */
#ifndef IND_TESTS_ODD_H
#define IND_TESTS_ODD_H

/* clang-format off */
#define IND_ODD_PIECES                                                                                                   \
    "\\", "\\\\", "\\x", "\\x41", "\\n", "\\r", "x41", "n", " ", "  ", "-", "\t", "\x01", "\x7f", "\xff", "\xc2\x85",    \
    "\xe2\x80\xae", "\xc3\xa9", "(", ")", "/", "\"", "]", "{", "=", ":", "%", "[cut]", " \\x[cut]", "word", "link down"
/* clang-format on */

#endif
