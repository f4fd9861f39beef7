#include "net/tls_private.h"

#include <openssl/err.h>
#include <stdio.h>

void ind_tls_last_error(char *text, size_t room)
{
    unsigned long error = ERR_peek_last_error();
    const char *reason = error ? ERR_reason_error_string(error) : NULL;
    snprintf(text, room, "%s", reason ? reason : "");
    ERR_clear_error();
}
