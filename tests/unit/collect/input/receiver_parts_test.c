/* What a receiver is made of, on a network and two clocks that the test plays: connections let in, and want
 * of descriptors; datagrams, and want of room. */
#include "support/support.h"

#include "collect/input/accept.h"
#include "collect/input/admission.h"
#include "collect/input/datagrams.h"
#include "collect/input/streams.h"
#include <errno.h>
#include <fcntl.h>
#include <string.h>
#include <unistd.h>

/* ---- The network and the clocks ---- */

static struct {
    int connections; /* that wait, from 192.0.2.1, .2, … */
    int next;
    int error;     /* once none waits */
    int datagrams; /* that wait */
    struct ind_clocks now;
    unsigned reports;
    char reported[4096];
    unsigned admitted;
    unsigned reads; /* of connections, which bring nothing */
} played;

static struct ind_clocks read_clock(void *context)
{
    (void)context;
    return played.now;
}

static int play_accept(void *context, int socket, struct ind_address *sender)
{
    char text[32];
    (void)context;
    (void)socket;
    if (played.connections == 0) {
        errno = played.error;
        return -1;
    }
    played.connections--;
    snprintf(text, sizeof text, "192.0.2.%d", ++played.next);
    assert_true(ind_address_read(ind_slice_of(text), sender));
    return open("/dev/null", O_RDONLY | O_CLOEXEC);
}

static int play_receive(void *context, int socket, bool local, struct ind_datagram *list, int most)
{
    static char bytes[65536];
    int count = played.datagrams < most ? played.datagrams : most;
    (void)context;
    (void)socket;
    (void)local;
    for (int i = 0; i < count; i++)
        list[i] = (struct ind_datagram){.bytes = bytes, .length = sizeof bytes, .received = IND_TIME_NONE};
    played.datagrams -= count;
    return count;
}

static uint64_t play_dropped(void *context, int socket)
{
    (void)context;
    (void)socket;
    return 0;
}

static ssize_t play_read(void *context, int socket, void *bytes, size_t room)
{
    (void)context;
    (void)socket;
    (void)bytes;
    (void)room;
    played.reads++;
    errno = EAGAIN;
    return -1;
}

static const struct ind_socket_table network = {NULL,         play_receive, NULL,
                                                play_dropped, play_accept,  play_read};
static const struct ind_clock clocks = {read_clock, NULL};

static void report(void *context, const char *text)
{
    (void)context;
    played.reports++;
    snprintf(played.reported, sizeof played.reported, "%s", text);
}

static void count_admitted(void *context, struct ind_connection *connection)
{
    (void)context;
    played.admitted++;
    ind_connection_free(connection);
}

static int set_up(void **state)
{
    (void)state;
    memset(&played, 0, sizeof played);
    played.now = (struct ind_clocks){INT64_C(1795409100) * IND_SECOND, {IND_SECOND}};
    return 0;
}

static void pass(int64_t wall, int64_t steady)
{
    played.now.wall += wall * IND_SECOND;
    played.now.steady = ind_steady_after(played.now.steady, steady * IND_SECOND);
}

/* ---- Connections ---- */

static void connections_are_let_in_and_those_of_strangers_are_refused(void **state)
{
    struct ind_loaded loaded;
    struct ind_reporter reporter;
    char *folder = ind_folder_new();
    (void)state;
    ind_write_file(ind_path(folder, "indagator.yaml"), "store: log\nallow: [192.0.2.0/29]\n");
    ind_config_load(ind_path(folder, "indagator.yaml"), &loaded);
    assert_non_null(loaded.config);
    ind_reporter_begin(&reporter, report, NULL);
    struct ind_listener listener = {.text = (char[]){"tcp 192.0.2.200:601"}, .kind = IND_LISTEN_TCP};
    struct ind_acceptor acceptor = {.admission = ind_admission_new(),
                                    .sockets = &network,
                                    .clock = &clocks,
                                    .reporter = &reporter,
                                    .admitted = count_admitted,
                                    .config = loaded.config};
    assert_non_null(acceptor.admission);
    ind_admission_set_limits(acceptor.admission, &loaded.config->limits, 100);
    played.connections = 10; /* of 192.0.2.1 to .10, of which seven are allowed */
    played.error = EAGAIN;
    assert_int_equal(ind_accept(&acceptor, &listener, 0), IND_ACCEPTED);
    assert_int_equal(played.admitted, 7);
    assert_int_equal(atomic_load(&acceptor.facts.accepted), 7);
    assert_int_equal(atomic_load(&acceptor.facts.not_allowed), 3);
    assert_int_equal(played.reports, 1); /* of three: once a minute */
    assert_non_null(strstr(played.reported, "192.0.2.8 was turned away: it is not under allow:"));
    ind_admission_free(acceptor.admission);
    ind_reporter_end(&reporter);
    ind_loaded_free(&loaded);
    ind_folder_remove(folder);
}

static void without_a_descriptor_it_pauses_and_reports_by_the_steady_clock(void **state)
{
    struct ind_reporter reporter;
    (void)state;
    ind_reporter_begin(&reporter, report, NULL);
    struct ind_listener listener = {.text = (char[]){"tcp 192.0.2.200:601"}, .kind = IND_LISTEN_TCP};
    struct ind_acceptor acceptor = {.sockets = &network, .clock = &clocks, .reporter = &reporter};
    played.error = EMFILE;
    assert_int_equal(ind_accept(&acceptor, &listener, 0), IND_ACCEPT_NO_DESCRIPTOR);
    assert_int_equal(played.reports, 1);
    assert_non_null(strstr(played.reported, "no descriptor or memory is left"));
    pass(-86400, 1); /* somebody sets the clock back by a day */
    assert_int_equal(ind_accept(&acceptor, &listener, 0), IND_ACCEPT_NO_DESCRIPTOR);
    pass(864000, 1); /* and forward */
    assert_int_equal(ind_accept(&acceptor, &listener, 0), IND_ACCEPT_NO_DESCRIPTOR);
    assert_int_equal(played.reports, 1);
    pass(0, 60);
    assert_int_equal(ind_accept(&acceptor, &listener, 0), IND_ACCEPT_NO_DESCRIPTOR);
    assert_int_equal(played.reports, 2);
    played.error = EAGAIN;
    assert_int_equal(ind_accept(&acceptor, &listener, 0), IND_ACCEPTED);
    ind_reporter_end(&reporter);
}

/* ---- Datagrams ---- */

static void datagrams_are_left_in_the_socket_where_there_is_no_room(void **state)
{
    enum { MANY = 100000 };
    struct ind_slabs *slabs = ind_slabs_new(8 << 20, 1);
    struct ind_dispatch dispatch = {.clock = &clocks};
    (void)state;
    assert_true(slabs && ind_dispatch_begin(&dispatch, slabs));
    struct ind_datagrams datagrams = {
        .dispatch = &dispatch, .sockets = &network, .slabs = slabs, .limit = IND_MESSAGE_LIMIT};
    struct ind_listener udp = {.kind = IND_LISTEN_UDP, .transport = IND_TRANSPORT_UDP, .number = 1},
                        local = {.kind = IND_LISTEN_UNIX, .transport = IND_TRANSPORT_UNIX, .number = 2};
    played.datagrams = MANY;
    enum ind_datagrams_read read = IND_DATAGRAMS_READ;
    for (int i = 0; i < 100 && read == IND_DATAGRAMS_READ; i++)
        read = ind_datagrams_read(&datagrams, &udp, NULL, 0);
    assert_int_equal(read, IND_DATAGRAMS_NO_ROOM);
    assert_true(datagrams.any);
    uint64_t kept = dispatch.counts.received[1];
    assert_true(kept >= 15 && kept < MANY);
    assert_int_equal(kept + (uint64_t)played.datagrams, MANY); /* none is taken out and dropped */
    assert_int_equal(dispatch.counts.lost_buffer[1], 0);
    assert_int_equal(dispatch.counts.waiting[1], kept);
    /* A local program is not made to wait. */
    played.datagrams = 500;
    assert_int_equal(ind_datagrams_read(&datagrams, &local, NULL, 0), IND_DATAGRAMS_READ);
    assert_int_equal(played.datagrams, 0);
    assert_int_equal(dispatch.counts.received[2], 500);
    assert_int_equal(dispatch.counts.lost_buffer[2] + dispatch.counts.waiting[2], 500);
    assert_true(dispatch.counts.lost_buffer[2] > 0);
    ind_dispatch_end(&dispatch);
    ind_slabs_free(slabs);
}

/* ---- Streams ---- */

/* What was read before comes first; but no connection is put off for ever. */
static void a_stream_is_read_once_what_waits_was_filed(void **state)
{
    enum { PUT_OFF = 8 };
    static const struct ind_record record = {.length = 4, .listener = 1};
    struct ind_slabs *slabs = ind_slabs_new(8 << 20, 1);
    struct ind_dispatch dispatch = {.clock = &clocks, .ending = true};
    struct ind_listener listener = {.kind = IND_LISTEN_TCP, .transport = IND_TRANSPORT_TCP, .number = 1};
    struct ind_address sender = {.bits = 32, .bytes = {192, 0, 2, 1}};
    (void)state;
    assert_true(slabs && ind_dispatch_begin(&dispatch, slabs));
    assert_non_null(dispatch.batch = ind_batch_new()); /* the writer has room */
    struct ind_streams streams = {.dispatch = &dispatch, .sockets = &network, .slabs = slabs, .receivers = 1};
    assert_true(ind_streams_begin(&streams));
    struct ind_admission *admission = ind_admission_new();
    assert_non_null(admission);
    struct ind_connection *connection = ind_connection_new(admission, &listener, -1, &sender);
    assert_non_null(connection);
    ind_streams_read(&streams, connection);
    assert_int_equal(played.reads, 1); /* nothing waits */
    assert_true(ind_dispatch_keep(&dispatch, &record, NULL, IND_SLICE("text")));
    for (unsigned round = 1; round <= 3; round++) {
        for (int i = 0; i < PUT_OFF; i++) {
            ind_streams_begin_look(&streams);
            ind_streams_read(&streams, connection);
            assert_int_equal(played.reads, round);
            assert_true(streams.any); /* there is something to come back for */
        }
        ind_streams_read(&streams, connection);
        assert_int_equal(played.reads, round + 1);
    }
    ind_burst_drop(dispatch.burst);
    ind_streams_read(&streams, connection);
    assert_int_equal(played.reads, 5);
    ind_connection_free(connection);
    ind_admission_free(admission);
    ind_streams_end(&streams);
    ind_dispatch_end(&dispatch);
    ind_slabs_free(slabs);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test_setup(connections_are_let_in_and_those_of_strangers_are_refused, set_up),
        cmocka_unit_test_setup(without_a_descriptor_it_pauses_and_reports_by_the_steady_clock, set_up),
        cmocka_unit_test_setup(datagrams_are_left_in_the_socket_where_there_is_no_room, set_up),
        cmocka_unit_test_setup(a_stream_is_read_once_what_waits_was_filed, set_up),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
