/* What stands between the TLS library and framing: whatever is sent in whatever records, with records of the
 * other side's own between, is read as it was written, in whatever portions; whatever bytes are no TLS end
 * the connection and give nothing; a goodbye is told from a break. And any bytes in place of a handshake end
 * it, or wait for more. */
#include "core/message/framing.h"
#include "net/tls_session.h"
#include "support/certificates.h"
#include "temporary.h"

#include <errno.h>
#include <fcntl.h>
#include <string.h>
#include <sys/socket.h>
#include <unistd.h>

enum { MOST = 1 << 16 };

static struct ind_tls *server_tls, *client_tls;

static void must(bool good)
{
    if (!good)
        abort();
}

static void make_contexts(void)
{
    char paths[3][300];
    static const char *const names[] = {"collector.pem", "collector.key", "authority.pem"};
    struct ind_tls_fault fault;
    const char *folder = ind_fuzz_folder("tls");
    ind_make_certificates(folder);
    for (int i = 0; i < 3; i++)
        snprintf(paths[i], sizeof paths[i], "%s/%s", folder, names[i]);
    server_tls = ind_tls_server_new(
        &(struct ind_tls_settings){.certificate = paths[0], .key = paths[1], .authorities = paths[2]},
        &fault);
    client_tls = ind_tls_client_new(
        &(struct ind_tls_settings){.certificate = paths[0], .key = paths[1], .authorities = paths[2]},
        &fault);
    must(server_tls && client_tls);
}

struct pair {
    int sockets[2]; /* the server's, the client's */
    struct ind_tls_session *server, *client;
};

static void open_pair(struct pair *pair)
{
    must(socketpair(AF_UNIX, SOCK_STREAM, 0, pair->sockets) == 0);
    for (int i = 0; i < 2; i++)
        (void)fcntl(pair->sockets[i], F_SETFL, O_NONBLOCK);
    pair->server = ind_tls_session_new(server_tls, pair->sockets[0]);
    pair->client = ind_tls_session_new_to(client_tls, pair->sockets[1], "127.0.0.1");
    must(pair->server && pair->client);
}

static void close_pair(struct pair *pair)
{
    ind_tls_session_free(pair->server);
    ind_tls_session_free(pair->client);
    close(pair->sockets[0]);
    close(pair->sockets[1]);
}

/* ---- Instead of a handshake ---- */

static void try_handshake(const uint8_t *data, size_t size)
{
    struct pair pair;
    open_pair(&pair);
    must(send(pair.sockets[1], data, size, MSG_NOSIGNAL) == (ssize_t)size);
    (void)shutdown(pair.sockets[1], SHUT_WR);
    enum ind_tls_step step = IND_TLS_WANTS_TO_READ;
    for (int i = 0; i < 64 && (step == IND_TLS_WANTS_TO_READ || step == IND_TLS_WANTS_TO_WRITE); i++)
        step = ind_tls_handshake(pair.server);
    must(step == IND_TLS_FAILED && ind_tls_failure(pair.server) < IND_TLS_FAILURES);
    close_pair(&pair);
}

/* ---- After it ---- */

struct script {
    const uint8_t *at, *end;
};

static unsigned next(struct script *script)
{
    return script->at < script->end ? *script->at++ : 0;
}

struct trial {
    struct pair pair;
    char sent[MOST], got[MOST];
    size_t sent_length, got_length;
    bool broken, over;
    int error;
};

static void read_some(struct trial *trial, size_t room)
{
    if (room > MOST - trial->got_length)
        room = MOST - trial->got_length;
    if (trial->over || room == 0)
        return;
    ssize_t got = ind_tls_read(trial->pair.server, trial->got + trial->got_length, room);
    if (got > 0)
        trial->got_length += (size_t)got;
    trial->over = got == 0 || (got < 0 && errno != EAGAIN);
    trial->error = got < 0 ? errno : 0;
}

static void write_some(struct trial *trial, struct script *script, size_t length)
{
    if (length > (size_t)(script->end - script->at))
        length = (size_t)(script->end - script->at);
    if (length > MOST - trial->sent_length)
        length = MOST - trial->sent_length;
    if (length == 0 || trial->broken)
        return;
    must(ind_tls_write_all(trial->pair.client, script->at, length));
    memcpy(trial->sent + trial->sent_length, script->at, length);
    trial->sent_length += length;
    script->at += length;
}

/* Bytes that no library has made. */
static void write_garbage(struct trial *trial, struct script *script, size_t length)
{
    size_t left = (size_t)(script->end - script->at);
    length = length < left ? length : left;
    if (length > 0 && !trial->broken) {
        (void)send(trial->pair.sockets[1], script->at, length, MSG_NOSIGNAL);
        trial->broken = true;
    }
    script->at += length;
}

static void step(struct trial *trial, struct script *script)
{
    unsigned what = next(script);
    switch (what % 8) {
    case 0:
    case 1:
    case 2:
        write_some(trial, script, next(script));
        break;
    case 3:
        write_some(trial, script, 1 + next(script) * 64);
        break;
    case 4:
        read_some(trial, 1 + next(script));
        break;
    case 5:
        read_some(trial, MOST);
        break;
    case 6:
        write_garbage(trial, script, 1 + what / 8 % 16);
        break;
    default:
        break;
    }
}

static uint64_t framed(const char *bytes, size_t length)
{
    struct ind_framing framing = {0};
    struct ind_slice input = {bytes, length}, part;
    uint64_t sum = 0;
    bool cut;
    enum ind_frame frame;
    while ((frame = ind_framing_next(&framing, &input, &part, &cut)) != IND_FRAME_MORE &&
           frame != IND_FRAME_BAD)
        for (size_t i = 0; i < part.length; i++)
            sum = (sum ^ (unsigned char)part.at[i]) * UINT64_C(1099511628211);
    return sum;
}

static void try_stream(const uint8_t *data, size_t size)
{
    struct trial *trial = calloc(1, sizeof *trial);
    struct script script = {data, data + size};
    must(trial != NULL);
    open_pair(&trial->pair);
    enum ind_tls_step server = IND_TLS_WANTS_TO_READ, client = server;
    for (int i = 0; i < 10; i++) {
        client = client == IND_TLS_DONE ? client : ind_tls_handshake(trial->pair.client);
        server = server == IND_TLS_DONE ? server : ind_tls_handshake(trial->pair.server);
    }
    must(server == IND_TLS_DONE && client == IND_TLS_DONE);
    while (script.at < script.end)
        step(trial, &script);
    bool goodbye = size % 2;
    if (goodbye && !trial->broken) {
        ind_tls_session_free(trial->pair.client);
        trial->pair.client = NULL;
    }
    (void)shutdown(trial->pair.sockets[1], SHUT_WR);
    for (int i = 0; i < 4 * MOST && !trial->over; i++)
        read_some(trial, MOST);
    bool full = trial->got_length == MOST;
    must(trial->over || full);
    /* What is read is what was written, from its beginning; all of it, where nobody came between. */
    must(trial->got_length <= trial->sent_length && memcmp(trial->got, trial->sent, trial->got_length) == 0);
    if (!trial->broken) {
        must(trial->got_length == trial->sent_length);
        must(full || (goodbye ? trial->error == 0 : trial->error == ECONNRESET));
        must(framed(trial->got, trial->got_length) == framed(trial->sent, trial->sent_length));
    } else {
        must(full || trial->error == EPROTO || trial->error == ECONNRESET);
    }
    close_pair(&trial->pair);
    free(trial);
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size);
int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
    if (!server_tls)
        make_contexts();
    if (size < 2 || size > 8192)
        return 0;
    if (data[0] % 4 == 0)
        try_handshake(data + 1, size - 1);
    else
        try_stream(data + 1, size - 1);
    return 0;
}
