/* What of this machine keeps messages from arriving or from being filed. */
#include "cli/doctor.h"

#include "cli/check_here.h"
#include "cli/cli.h"
#include "collect/runtime/identity.h"
#include "net/udp.h"
#include "store/disk/mounts.h"
#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/statvfs.h>
#include <time.h>
#include <unistd.h>
#ifdef __linux__
#include <dirent.h>
#include <sys/timex.h>
#endif

/* ---- Folders and file systems ---- */

static void look_at_folder(struct ind_findings *findings, const struct ind_config *config, const char *what,
                           const char *path)
{
    ind_findings_looked(findings);
    if (access(path, F_OK) != 0) {
        if (errno == ENOENT)
            return; /* the start makes it */
        ind_findings_add(findings, IND_FINDING_BAD, "folder", "look at the folders above it", "the %s %s: %s",
                         what, path, strerror(errno));
        return;
    }
    if (faccessat(AT_FDCWD, path, R_OK | W_OK | X_OK, AT_EACCESS) == 0)
        return;
    char mend[400];
    int error = errno;
    snprintf(mend, sizeof mend, error == EROFS ? "mount it for writing" : "chown -R %s: %s",
             config->user ? config->user : "USER", path);
    ind_findings_add(findings, IND_FINDING_BAD, "folder", mend, "%s may not write to the %s %s: %s",
                     config->user ? config->user : "this user", what, path, strerror(error));
}

static void look_at_file_system(struct ind_findings *findings, const char *path, const char *what)
{
    enum { LITTLE = 100 << 20 };
    struct statvfs facts;
    char size[32];
    ind_findings_looked(findings);
    if (statvfs(path, &facts) != 0)
        return;
    uint64_t room = (uint64_t)facts.f_bavail * facts.f_frsize;
    if (facts.f_flag & ST_RDONLY)
        ind_findings_add(findings, IND_FINDING_BAD, "read-only",
                         "look at dmesg for the reason, then mount it for writing",
                         "the file system of %s is read-only", what);
    else if (facts.f_blocks && facts.f_bavail == 0)
        ind_findings_add(findings, IND_FINDING_BAD, "full",
                         "make room; \"reserve:\" keeps some free by removing the oldest archives",
                         "the file system of %s is full", what);
    else if (facts.f_files && facts.f_favail == 0)
        ind_findings_add(findings, IND_FINDING_BAD, "inodes",
                         "remove small files, or make a file system with more inodes",
                         "the file system of %s has no room for another file (inodes)", what);
    else if (facts.f_blocks && room < LITTLE)
        ind_findings_add(findings, IND_FINDING_ADVICE, "full",
                         "make room, or shorten keep: under archives:", "the file system of %s has %s left",
                         what, ind_size_text(room, size));
}

static void look_at_file_systems(struct ind_findings *findings, const struct ind_config *config)
{
    struct ind_mounts mounts;
    char path[4400];
    look_at_file_system(findings, config->store, config->store);
    (void)ind_mounts_find(config->store, &mounts);
    for (unsigned i = 1; i < mounts.file_systems; i++) {
        snprintf(path, sizeof path, "%s/%s", config->store, ind_mounts_folder(&mounts, i));
        look_at_file_system(findings, path, path);
    }
    ind_mounts_free(&mounts);
}

/* ---- Its clock and its kernel ---- */

static void look_at_clock(struct ind_findings *findings)
{
    ind_findings_looked(findings);
#ifdef __linux__
    struct timex clock = {0};
    if (adjtimex(&clock) == TIME_ERROR)
        ind_findings_add(findings, IND_FINDING_ADVICE, "clock",
                         "start a time service, such as systemd-timesyncd",
                         "nothing keeps the clock of this machine right: lags of devices, and times of "
                         "receipt, may be wrong");
#endif
}

bool ind_doctor_has_udp(const struct ind_config *config)
{
    for (size_t i = 0; i < config->listener_count; i++)
        if (ind_listens_on_udp(&config->listeners[i]))
            return true;
    return false;
}

static long read_number(const char *path)
{
    char text[40];
    int file = open(path, O_RDONLY | O_CLOEXEC);
    ssize_t length = file >= 0 ? read(file, text, sizeof text - 1) : 0;
    if (file >= 0)
        close(file);
    if (length <= 0)
        return -1;
    text[length] = '\0';
    return strtol(text, NULL, 10);
}

static void look_at_buffers(struct ind_findings *findings, const struct ind_config *config)
{
    long most = read_number("/proc/sys/net/core/rmem_max");
    ind_findings_looked(findings);
    if (!ind_doctor_has_udp(config) || most < 0 || most >= ind_udp_buffer_wanted() || geteuid() == 0)
        return;
    char mend[200];
    snprintf(mend, sizeof mend, "sysctl -w net.core.rmem_max=%d, and a line in /etc/sysctl.d",
             ind_udp_buffer_wanted());
    ind_findings_add(
        findings, IND_FINDING_ADVICE, "buffer", mend,
        "the kernel keeps %ld KiB for datagrams that are not read yet; the collector asks for %d KiB",
        most >> 10, ind_udp_buffer_wanted() >> 10);
}

void ind_doctor_machine(struct ind_findings *findings, const struct ind_config *config, const json_t *status)
{
    struct ind_identity identity;
    char reason[400];
    bool found = ind_identity_find(config->user, config->groups, config->group_count, &identity, reason,
                                   sizeof reason);
    ind_findings_looked(findings);
    if (!found)
        ind_findings_add(findings, IND_FINDING_BAD, "user",
                         "adduser --system --group NAME, or another user:", "%s", reason);
    bool tried = found && ind_identity_try_on(&identity);
    look_at_folder(findings, config, "store", config->store);
    look_at_folder(findings, config, "state folder", config->state);
    if (tried)
        ind_identity_take_off();
    look_at_file_systems(findings, config);
    look_at_clock(findings);
    look_at_buffers(findings, config);
    ind_doctor_kernel(findings, config, status);
}

/* ---- Ports ---- */

#ifdef __linux__
/* The inode of a socket that is bound to a port, from a table of the kernel's; 0: none. */
static unsigned long inode_at(const char *table, unsigned port, bool listening)
{
    char line[512];
    unsigned long found = 0;
    FILE *file = fopen(table, "re");
    while (file && !found && fgets(line, sizeof line, file)) {
        unsigned bound, state;
        unsigned long inode;
        if (sscanf(line, "%*d: %*[0-9A-Fa-f]:%x %*[0-9A-Fa-f]:%*x %x %*s %*s %*s %*s %*s %lu", &bound, &state,
                   &inode) == 3 &&
            bound == port && (!listening || state == 0x0a))
            found = inode;
    }
    if (file)
        (void)fclose(file);
    return found;
}

static bool holds(const char *process, unsigned long inode)
{
    char path[300], wanted[40], link[64];
    snprintf(path, sizeof path, "/proc/%s/fd", process);
    snprintf(wanted, sizeof wanted, "socket:[%lu]", inode);
    DIR *folder = opendir(path);
    const struct dirent *entry;
    bool found = false;
    while (folder && !found && (entry = readdir(folder))) {
        ssize_t length = readlinkat(dirfd(folder), entry->d_name, link, sizeof link - 1);
        link[length > 0 ? length : 0] = '\0';
        found = strcmp(link, wanted) == 0;
    }
    if (folder)
        (void)closedir(folder);
    return found;
}

/* "NAME, process 123"; "another program" where that cannot be seen. */
static void who_has(const struct ind_listen_item *item, char *text, size_t room)
{
    const bool udp = ind_listens_on_udp(item);
    unsigned long inode = inode_at(udp ? "/proc/net/udp" : "/proc/net/tcp", item->port, !udp);
    inode = inode ? inode : inode_at(udp ? "/proc/net/udp6" : "/proc/net/tcp6", item->port, !udp);
    DIR *folder = inode ? opendir("/proc") : NULL;
    const struct dirent *entry;
    snprintf(text, room, "another program");
    while (folder && (entry = readdir(folder))) {
        char path[300], name[64] = "";
        if (entry->d_name[0] < '0' || entry->d_name[0] > '9' || !holds(entry->d_name, inode))
            continue;
        snprintf(path, sizeof path, "/proc/%s/comm", entry->d_name);
        FILE *file = fopen(path, "re");
        if (file && fgets(name, sizeof name, file))
            name[strcspn(name, "\n")] = '\0';
        if (file)
            (void)fclose(file);
        snprintf(text, room, "%s, process %.20s,", name[0] ? name : "a program", entry->d_name);
        break;
    }
    if (folder)
        (void)closedir(folder);
}
#else
static void who_has(const struct ind_listen_item *item, char *text, size_t room)
{
    (void)item;
    snprintf(text, room, "another program");
}
#endif

static void tell_port(struct ind_findings *findings, const struct ind_config *config,
                      const struct ind_listen_item *item, int error)
{
    char who[200], mend[300];
    if (error == EADDRINUSE) {
        who_has(item, who, sizeof who);
        ind_findings_add(findings, IND_FINDING_BAD, "port-taken",
                         "end that program, or choose another port under listen:",
                         "%s: %s listens there already", item->text, who);
    } else if (error == EACCES) {
        snprintf(mend, sizeof mend,
                 "start it as root with \"user: %s\", or with the right CAP_NET_BIND_SERVICE",
                 config->user ? config->user : "indagator");
        ind_findings_add(findings, IND_FINDING_BAD, "port-right", mend,
                         "%s: this user may not open ports below 1024", item->text);
    } else if (error == EADDRNOTAVAIL) {
        ind_findings_add(findings, IND_FINDING_BAD, "address",
                         "see \"ip address\", or listen on 0.0.0.0 or \"[::]\"",
                         "%s: this machine has no such address", item->text);
    } else {
        ind_findings_add(findings, IND_FINDING_BAD, "port", "", "%s: %s", item->text, strerror(error));
    }
}

void ind_doctor_ports(struct ind_findings *findings, const struct ind_config *config)
{
    for (size_t i = 0; i < config->listener_count; i++) {
        const struct ind_listen_item *item = &config->listeners[i];
        if (item->kind == IND_LISTEN_UNIX || item->kind == IND_LISTEN_INHERITED || item->nats)
            continue;
        ind_findings_looked(findings);
        int socket = ind_listen_here(item);
        if (socket >= 0)
            close(socket);
        else
            tell_port(findings, config, item, errno);
    }
}
