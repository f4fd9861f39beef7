/* The socket of a session, as the library sees it. */
#include "net/tls_private.h"

#include <errno.h>
#include <sys/socket.h>
#include <unistd.h>

static bool goes_on(int error)
{
    return error == EAGAIN || error == EWOULDBLOCK || error == EINTR;
}

/* Never more than the budget of this call: what the other side sends without end must not keep us here, for
 * the library reads on by itself where records hold no message. */
static int take(BIO *bio, char *to, int room)
{
    struct ind_tls_session *session = BIO_get_data(bio);
    BIO_clear_retry_flags(bio);
    session->starved = session->budget == 0;
    if (session->starved) {
        BIO_set_retry_read(bio);
        return -1;
    }
    size_t most = (size_t)room < session->budget ? (size_t)room : session->budget;
    ssize_t got = read(session->socket, to, most);
    session->error = got < 0 ? errno : 0;
    if (got < 0 && goes_on(errno))
        BIO_set_retry_read(bio);
    if (got > 0)
        session->budget -= (size_t)got;
    return (int)got;
}

static int give(BIO *bio, const char *from, int length)
{
    struct ind_tls_session *session = BIO_get_data(bio);
    BIO_clear_retry_flags(bio);
    ssize_t sent = send(session->socket, from, (size_t)length, MSG_NOSIGNAL);
    session->error = sent < 0 ? errno : 0;
    session->given += sent > 0 ? (uint64_t)sent : 0;
    if (sent < 0 && goes_on(errno))
        BIO_set_retry_write(bio);
    return (int)sent;
}

static long control(BIO *bio, int command, long number, void *pointer)
{
    (void)bio;
    (void)number;
    (void)pointer;
    return command == BIO_CTRL_FLUSH;
}

BIO_METHOD *ind_tls_method_new(void)
{
    BIO_METHOD *method = BIO_meth_new(BIO_TYPE_SOURCE_SINK | BIO_get_new_index(), "socket with a budget");
    if (method && BIO_meth_set_read(method, take) == 1 && BIO_meth_set_write(method, give) == 1 &&
        BIO_meth_set_ctrl(method, control) == 1)
        return method;
    BIO_meth_free(method);
    return NULL;
}
