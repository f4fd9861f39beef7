/* A client of TLS for the benchmarks. Usage:
 *
 *     bench_tls make FOLDER                          certificates for a collector on 127.0.0.1
 *     bench_tls records FOLDER PORT FILE COUNT       each line of FILE in a record of its own, COUNT of them
 *     bench_tls handshakes FOLDER PORT RATE SECONDS  so many a second, each in a new connection; prints how
 * many bench_tls idle FOLDER PORT COUNT               so many connections, until the standard input ends
 *
 * Records are gathered into large writes, so that it is not the sender's system calls that are measured. */
#define _GNU_SOURCE
#include "core/base/slice.h"
#include "net/socket.h"
#include "support/certificates.h"

#include <openssl/ssl.h>
#include <pthread.h>
#include <stdatomic.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <time.h>
#include <unistd.h>

static struct {
    SSL_CTX *context;
    const char *port;
    double rate, seconds;
    atomic_ulong done, failed;
} bench;

static void must(bool good, const char *what)
{
    if (good)
        return;
    fprintf(stderr, "bench_tls: cannot %s\n", what);
    exit(1);
}

static SSL_CTX *context_of(const char *folder)
{
    char path[3][1200];
    static const char *const names[] = {"authority.pem", "pier1-rtr.pem", "pier1-rtr.key"};
    SSL_CTX *context = SSL_CTX_new(TLS_client_method());
    for (int i = 0; i < 3; i++)
        snprintf(path[i], sizeof path[i], "%s/%s", folder, names[i]);
    SSL_CTX_set_verify(context, SSL_VERIFY_PEER, NULL);
    SSL_CTX_set_mode(context, SSL_MODE_RELEASE_BUFFERS);
    must(SSL_CTX_load_verify_locations(context, path[0], NULL) == 1 &&
             SSL_CTX_use_certificate_file(context, path[1], SSL_FILETYPE_PEM) == 1 &&
             SSL_CTX_use_PrivateKey_file(context, path[2], SSL_FILETYPE_PEM) == 1,
         "read the certificates");
    return context;
}

static SSL *try_to_connect(void)
{
    const char *reason;
    int socket = ind_connect(IND_SEND_TCP, "127.0.0.1", bench.port, NULL, &reason);
    SSL *ssl = socket < 0 ? NULL : SSL_new(bench.context);
    if (ssl && SSL_set_fd(ssl, socket) == 1 && SSL_connect(ssl) == 1)
        return ssl;
    SSL_free(ssl);
    if (socket >= 0)
        close(socket);
    return NULL;
}

static void disconnect(SSL *ssl)
{
    int socket = SSL_get_fd(ssl);
    (void)SSL_shutdown(ssl);
    SSL_free(ssl);
    close(socket);
}

/* ---- One message a record ---- */

static void send_all(int socket, const char *bytes, size_t length)
{
    while (length > 0) {
        ssize_t sent = write(socket, bytes, length);
        must(sent > 0, "send");
        bytes += sent;
        length -= (size_t)sent;
    }
}

static void send_records(const char *file, unsigned long count)
{
    enum { GATHERED = 128 << 10 };
    SSL *ssl = try_to_connect();
    must(ssl != NULL, "connect");
    int socket = SSL_get_fd(ssl);
    BIO *gathered = BIO_new(BIO_s_mem());
    SSL_set0_wbio(ssl, gathered);
    FILE *in = fopen(file, "r");
    char *line = NULL, *bytes;
    size_t room = 0;
    must(in != NULL, file);
    for (unsigned long i = 0; i < count;) {
        ssize_t length = getline(&line, &room, in);
        if (length <= 0) {
            rewind(in);
            continue;
        }
        must(SSL_write(ssl, line, (int)length) == (int)length, "write");
        long waiting = BIO_get_mem_data(gathered, &bytes);
        if (waiting > GATHERED || ++i == count) {
            send_all(socket, bytes, (size_t)waiting);
            (void)BIO_reset(gathered);
        }
    }
    (void)SSL_shutdown(ssl);
    send_all(socket, bytes, (size_t)BIO_get_mem_data(gathered, &bytes));
    free(line);
    fclose(in);
    close(socket);
    SSL_free(ssl);
}

/* ---- Handshakes ---- */

static double now(void)
{
    struct timespec time;
    clock_gettime(CLOCK_MONOTONIC, &time);
    return (double)time.tv_sec + (double)time.tv_nsec / 1e9;
}

enum { THREADS = 8 };

static void *shake_hands(void *began)
{
    double start = *(double *)began;
    while (now() - start < bench.seconds) {
        unsigned long so_far = atomic_load(&bench.done) + atomic_load(&bench.failed);
        double ahead = (double)so_far / bench.rate - (now() - start);
        if (ahead > 0) {
            const struct timespec wait = {0,
                                          (long)(ahead * 1e9) < 999999999 ? (long)(ahead * 1e9) : 999999999};
            nanosleep(&wait, NULL);
            continue;
        }
        SSL *ssl = try_to_connect();
        atomic_fetch_add(ssl ? &bench.done : &bench.failed, 1);
        if (ssl)
            disconnect(ssl);
    }
    return NULL;
}

static void run_handshakes(void)
{
    pthread_t threads[THREADS];
    double began = now();
    for (int i = 0; i < THREADS; i++)
        must(pthread_create(&threads[i], NULL, shake_hands, &began) == 0, "start a thread");
    for (int i = 0; i < THREADS; i++)
        pthread_join(threads[i], NULL);
    printf("%.0f %lu\n", (double)atomic_load(&bench.done) / (now() - began), atomic_load(&bench.failed));
}

/* ---- Idle connections ---- */

static void be_idle(unsigned long count)
{
    SSL **all = calloc(count, sizeof *all);
    char byte;
    for (unsigned long i = 0; i < count; i++)
        must((all[i] = try_to_connect()) != NULL, "connect");
    printf("%lu\n", count);
    fflush(stdout);
    while (read(STDIN_FILENO, &byte, 1) > 0)
        ;
    for (unsigned long i = 0; i < count; i++)
        disconnect(all[i]);
    free(all);
}

/* ---- Slow connections, and handshakes that stop ---- */

static void be_slow(unsigned long count)
{
    SSL **all = calloc(count, sizeof *all);
    int *half = calloc(count, sizeof *half);
    const char *reason;
    for (unsigned long i = 0; i < count; i++) {
        must((all[i] = try_to_connect()) != NULL, "connect");
        half[i] = ind_connect(IND_SEND_TCP, "127.0.0.1", bench.port, NULL, &reason);
        must(half[i] >= 0 && write(half[i], "\x16\x03\x01", 3) == 3, "connect");
    }
    double began = now();
    for (unsigned long round = 0; now() - began < bench.seconds; round++) {
        for (unsigned long i = 0; i < count; i++)
            (void)SSL_write(all[i], "<13>1 - - a - - - slowly" + round % 24, 1);
        double ahead = (double)(round + 1) - (now() - began);
        if (ahead > 0) {
            const struct timespec wait = {(time_t)ahead, (long)((ahead - (double)(time_t)ahead) * 1e9)};
            nanosleep(&wait, NULL);
        }
    }
    for (unsigned long i = 0; i < count; i++) {
        disconnect(all[i]);
        close(half[i]);
    }
    free(all);
    free(half);
}

int main(int count, char **words)
{
    must(count >= 3, "understand the call: see the beginning of bench/tls.c");
    if (strcmp(words[1], "make") == 0) {
        ind_make_certificates(words[2]);
        return 0;
    }
    must(count >= 5, "understand the call: see the beginning of bench/tls.c");
    bench.context = context_of(words[2]);
    bench.port = words[3];
    if (strcmp(words[1], "records") == 0 && count == 6)
        send_records(words[4], strtoul(words[5], NULL, 10));
    else if (strcmp(words[1], "handshakes") == 0 && count == 6) {
        bench.rate = strtod(words[4], NULL);
        bench.seconds = strtod(words[5], NULL);
        run_handshakes();
    } else if (strcmp(words[1], "slow") == 0 && count == 6) {
        bench.seconds = strtod(words[5], NULL);
        be_slow(strtoul(words[4], NULL, 10));
    } else if (strcmp(words[1], "idle") == 0)
        be_idle(strtoul(words[4], NULL, 10));
    else
        must(false, "understand the call: see the beginning of bench/tls.c");
    SSL_CTX_free(bench.context);
    return 0;
}
