/* What the kernel does with what comes to this machine: told by its counters before and after a moment. */
#include "cli/doctor.h"

#include "cli/answer.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>

/* Counters of all that comes in, by what becomes of it. */
struct counts {
    long long nobody, full;        /* datagrams: to no socket; to one whose buffer was full */
    long long received, accounted; /* packets; those of which the kernel says what became of them */
    long long no_way_back;         /* refused by rp_filter: no route leads back to their senders */
};

enum { TABLE = 16384 };

/* A table of the kernel's, all of it at one moment; "" where there is none. */
static void read_table(const char *path, char text[TABLE])
{
    FILE *file = fopen(path, "re");
    const size_t length = file ? fread(text, 1, TABLE - 1, file) : 0;
    text[length] = '\0';
    if (file)
        (void)fclose(file);
}

static const char *next_word(const char *at, size_t *length)
{
    at += strspn(at, " ");
    *length = strcspn(at, " \n");
    return at;
}

/* A counter of a table in which a line of headings stands before one of values, each with `group` ("Ip:") in
 * front; 0 where there is none of that name. */
static long long counter(const char *table, const char *group, const char *name)
{
    const size_t length = strlen(group);
    const char *heads = table, *values;
    size_t head = 0, value = 0;
    while (heads && strncmp(heads, group, length) != 0)
        heads = strchr(heads, '\n') ? strchr(heads, '\n') + 1 : NULL;
    values = heads ? strchr(heads, '\n') : NULL;
    if (!values || strncmp(++values, group, length) != 0)
        return 0;
    heads = next_word(heads + length, &head);
    values = next_word(values + length, &value);
    while (head && value) {
        if (head == strlen(name) && strncmp(heads, name, head) == 0)
            return strtoll(values, NULL, 10);
        heads = next_word(heads + head, &head);
        values = next_word(values + value, &value);
    }
    return 0;
}

/* One of the table for IPv6: a name and a value in each line. */
static long long counter_v6(const char *table, const char *name)
{
    const size_t length = strlen(name);
    for (const char *at = table; at; at = strchr(at, '\n') ? strchr(at, '\n') + 1 : NULL)
        if (strncmp(at, name, length) == 0 && (at[length] == ' ' || at[length] == '\t'))
            return strtoll(at + length, NULL, 10);
    return 0;
}

static struct counts read_counts(void)
{
    static const char *const ends[] = {"InHdrErrors", "InAddrErrors", "ForwDatagrams", "InUnknownProtos",
                                       "InDiscards",  "InDelivers",   "ReasmReqds"};
    static const char *const ends_v6[] = {"Ip6InHdrErrors",     "Ip6InAddrErrors",     "Ip6InNoRoutes",
                                          "Ip6InUnknownProtos", "Ip6InDiscards",       "Ip6InDelivers",
                                          "Ip6ReasmReqds",      "Ip6OutForwDatagrams", "Ip6InTooBigErrors",
                                          "Ip6InTruncatedPkts"};
    char snmp[TABLE] = "", v6[TABLE] = "", netstat[TABLE] = "";
    read_table("/proc/net/snmp", snmp);
    read_table("/proc/net/snmp6", v6);
    read_table("/proc/net/netstat", netstat);
    struct counts counts = {.nobody = counter(snmp, "Udp:", "NoPorts") + counter_v6(v6, "Udp6NoPorts"),
                            .full =
                                counter(snmp, "Udp:", "RcvbufErrors") + counter_v6(v6, "Udp6RcvbufErrors"),
                            .received = counter(snmp, "Ip:", "InReceives") + counter_v6(v6, "Ip6InReceives"),
                            .no_way_back = counter(netstat, "TcpExt:", "IPReversePathFilter")};
    for (size_t i = 0; i < sizeof ends / sizeof *ends; i++)
        counts.accounted += counter(snmp, "Ip:", ends[i]);
    for (size_t i = 0; i < sizeof ends_v6 / sizeof *ends_v6; i++)
        counts.accounted += counter_v6(v6, ends_v6[i]);
    counts.accounted += counter(netstat, "IpExt:", "InNoRoutes") + counts.no_way_back;
    /* Fragments come in one by one; what they are put together to goes on without having come in. */
    counts.accounted -= counter(snmp, "Ip:", "ReasmOKs") + counter_v6(v6, "Ip6ReasmOKs");
    return counts;
}

static bool is_of_udp(const char *listener)
{
    return strncmp(listener, "udp ", 4) == 0 || strncmp(listener, "traps ", 6) == 0;
}

static bool has_unheard_listener(const json_t *status)
{
    const json_t *listener;
    size_t i;
    json_array_foreach(json_object_get(status, "listeners"), i,
                       listener) if (is_of_udp(ind_answer_text(listener, "listener")) &&
                                     ind_answer_number(listener, "received") == 0) return true;
    return false;
}

void ind_doctor_kernel(struct ind_findings *findings, const struct ind_config *config, const json_t *status)
{
    enum { FEW = 2, SHARE = 500 }; /* of each other, counters are not of quite the same moment */
    static const struct timespec moment = {0, 300000000};
    const enum ind_finding_kind where_unheard =
        has_unheard_listener(status) ? IND_FINDING_BAD : IND_FINDING_ADVICE;
    ind_findings_looked(findings);
    if (!ind_doctor_has_udp(config))
        return;
    const struct counts before = read_counts();
    nanosleep(&moment, NULL);
    const struct counts after = read_counts();
    const long long full = after.full - before.full, nobody = after.nobody - before.nobody,
                    no_way_back = after.no_way_back - before.no_way_back,
                    filtered = (after.received - before.received) - (after.accounted - before.accounted);
    if (full > 0)
        ind_findings_add(
            findings, IND_FINDING_BAD, "dropped",
            "a larger net.core.rmem_max, fewer rules, or more processors",
            "the kernel dropped %lld datagrams within a third of a second: nobody reads them in time", full);
    if (nobody > 0)
        ind_findings_add(
            findings, status ? IND_FINDING_ADVICE : IND_FINDING_BAD, "no-port",
            status ? "compare the ports of the devices with those under listen:" : "start the collector",
            "%lld datagrams came within a third of a second to ports at which nobody listens", nobody);
    if (no_way_back > 0)
        ind_findings_add(findings, where_unheard, "no-way-back",
                         "a route to the devices' networks, or net.ipv4.conf.all.rp_filter=2",
                         "%lld packets came within a third of a second from networks to which no route leads "
                         "back that way: the kernel refused them",
                         no_way_back);
    if (filtered > FEW && filtered > (after.received - before.received) / SHARE)
        ind_findings_add(findings, where_unheard, "filtered",
                         "look for the ports under listen: in \"nft list ruleset\", or with the tool that "
                         "made the filter",
                         "%lld packets came to this machine within a third of a second and were given to "
                         "nobody: a packet filter drops them, most likely",
                         filtered);
}
