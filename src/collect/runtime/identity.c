#define _GNU_SOURCE /* setgroups, setresuid */
#include "collect/runtime/identity.h"

#include <errno.h>
#include <grp.h>
#include <pwd.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>
#ifdef __linux__
#include <linux/capability.h>
#include <sys/prctl.h>
#include <sys/syscall.h>
#endif

/* ---- Names ---- */

static bool number_of(const char *text, unsigned long *number)
{
    char *end;
    errno = 0;
    *number = strtoul(text, &end, 10);
    return *text >= '0' && *text <= '9' && !*end && errno == 0 && *number < UINT32_MAX;
}

static bool find_user(const char *name, struct ind_identity *identity)
{
    unsigned long number;
    const struct passwd *entry = getpwnam(name);
    if (!entry && number_of(name, &number))
        entry = getpwuid((uid_t)number);
    if (!entry)
        return false;
    identity->user = entry->pw_uid;
    identity->groups[0] = entry->pw_gid;
    identity->group_count = 1;
    return true;
}

static bool find_group(const char *name, gid_t *group)
{
    unsigned long number = 0;
    const struct group *entry = getgrnam(name);
    bool numbered = !entry && number_of(name, &number);
    *group = entry ? entry->gr_gid : (gid_t)number;
    return entry || numbered;
}

static bool has_group(gid_t wanted)
{
    gid_t all[256];
    int count = getgroups(sizeof all / sizeof *all, all);
    for (int i = 0; i < count; i++)
        if (all[i] == wanted)
            return true;
    return getegid() == wanted;
}

/* Without root's rights a process is who it is. */
static bool can_be(const struct ind_identity *identity, const char *user, char *const *groups, char *reason,
                   size_t room)
{
    if (geteuid() == 0)
        return true;
    if (geteuid() != identity->user) {
        snprintf(reason, room,
                 "user: the configuration says %s, but this process is started as another user; "
                 "start it as %s or as root, or leave user: out",
                 user, user);
        return false;
    }
    for (size_t i = 0; groups && i < identity->group_count; i++)
        if (!has_group(identity->groups[i])) {
            snprintf(reason, room,
                     "group: %s is not in the group %s; add it, start this as root, or leave group: out",
                     user, groups[i]);
            return false;
        }
    return true;
}

bool ind_identity_find(const char *user, char *const *groups, size_t group_count,
                       struct ind_identity *identity, char *reason, size_t room)
{
    *identity = (struct ind_identity){0};
    if (!user)
        return true;
    if (!find_user(user, identity)) {
        snprintf(reason, room,
                 "user: there is no user \"%s\" on this machine; make one, such as with "
                 "\"useradd --system --no-create-home --shell /usr/sbin/nologin %s\"",
                 user, user);
        return false;
    }
    for (size_t i = 0; i < group_count && i < IND_MOST_GROUPS; i++)
        if (!find_group(groups[i], &identity->groups[i])) {
            snprintf(reason, room,
                     "group: there is no group \"%s\" on this machine; make it, or leave it out", groups[i]);
            return false;
        }
    if (group_count > 0)
        identity->group_count = group_count < IND_MOST_GROUPS ? group_count : IND_MOST_GROUPS;
    identity->given = can_be(identity, user, group_count ? groups : NULL, reason, room);
    return identity->given;
}

bool ind_identity_is_root(const struct ind_identity *identity)
{
    return geteuid() == 0 && (!identity->given || identity->user == 0);
}

/* ---- Rights ---- */

#ifdef __linux__
enum { SETS = _LINUX_CAPABILITY_U32S_3 };

static bool get_rights(struct __user_cap_data_struct rights[SETS])
{
    struct __user_cap_header_struct head = {_LINUX_CAPABILITY_VERSION_3, 0};
    return syscall(SYS_capget, &head, rights) == 0;
}

static bool set_rights(const struct __user_cap_data_struct rights[SETS])
{
    struct __user_cap_header_struct head = {_LINUX_CAPABILITY_VERSION_3, 0};
    return syscall(SYS_capset, &head, rights) == 0;
}

/* The rights that the process may have at most, and those that programs would get from it. */
static void close_ways_back(bool keep_ports)
{
    for (int right = 0; right <= CAP_LAST_CAP; right++)
        if (!keep_ports || right != CAP_NET_BIND_SERVICE)
            (void)prctl(PR_CAPBSET_DROP, right, 0, 0, 0);
#ifdef PR_CAP_AMBIENT
    (void)prctl(PR_CAP_AMBIENT, PR_CAP_AMBIENT_CLEAR_ALL, 0, 0, 0);
#endif
}

static void keep_over_change(bool keep)
{
    (void)prctl(PR_SET_KEEPCAPS, keep, 0, 0, 0);
}

static bool reduce_rights(bool keep_ports)
{
    struct __user_cap_data_struct rights[SETS];
    if (!get_rights(rights))
        return false;
    const uint32_t ports = keep_ports ? (uint32_t)1 << CAP_NET_BIND_SERVICE : 0;
    for (int i = 0; i < SETS; i++) {
        rights[i].permitted &= i == 0 ? ports : 0;
        rights[i].effective = rights[i].permitted;
        rights[i].inheritable = 0;
    }
    return set_rights(rights) && prctl(PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0) == 0;
}

static bool are_reduced(bool keep_ports)
{
    struct __user_cap_data_struct rights[SETS];
    const uint32_t ports = keep_ports ? (uint32_t)1 << CAP_NET_BIND_SERVICE : 0;
    bool good = get_rights(rights) && prctl(PR_GET_NO_NEW_PRIVS, 0, 0, 0, 0) == 1;
    for (int i = 0; good && i < SETS; i++)
        good = !((rights[i].permitted | rights[i].effective | rights[i].inheritable) & ~(i == 0 ? ports : 0));
    return good;
}
#else
static void close_ways_back(bool keep_ports)
{
    (void)keep_ports;
}

static void keep_over_change(bool keep)
{
    (void)keep;
}

static bool reduce_rights(bool keep_ports)
{
    (void)keep_ports;
    return true;
}

static bool are_reduced(bool keep_ports)
{
    (void)keep_ports;
    return true;
}
#endif

static bool become(const struct ind_identity *identity)
{
    return setgroups(identity->group_count - 1, identity->groups + 1) == 0 &&
           setregid(identity->groups[0], identity->groups[0]) == 0 &&
           setreuid(identity->user, identity->user) == 0;
}

/* It is who it should be, and cannot be root again. */
static bool has_become(const struct ind_identity *identity)
{
    return getuid() == identity->user && geteuid() == identity->user && getgid() == identity->groups[0] &&
           getegid() == identity->groups[0] && setuid(0) != 0 && seteuid(0) != 0;
}

bool ind_identity_take_on(const struct ind_identity *identity, bool keep_ports, char *reason, size_t room)
{
    bool root = geteuid() == 0;
    if (ind_identity_is_root(identity))
        return true;
    close_ways_back(keep_ports);
    keep_over_change(keep_ports);
    if (root && !become(identity)) {
        snprintf(reason, room, "cannot take on the user of the configuration: %s", strerror(errno));
        return false;
    }
    if (!reduce_rights(keep_ports)) {
        snprintf(reason, room, "cannot give up the rights of root: %s", strerror(errno));
        return false;
    }
    keep_over_change(false);
    if ((root && !has_become(identity)) || !are_reduced(keep_ports)) {
        snprintf(reason, room, "this process still has rights that it has given up");
        return false;
    }
    return true;
}

/* ---- Files ---- */

void ind_identity_own(const struct ind_identity *identity, const char *path)
{
    if (geteuid() == 0 && identity->given)
        (void)!lchown(path, identity->user, identity->groups[0]);
}

/* ---- For a while ---- */

bool ind_identity_try_on(const struct ind_identity *identity)
{
    if (geteuid() != 0 || !identity->given || identity->user == 0)
        return false;
    if (setgroups(identity->group_count, identity->groups) == 0 && setegid(identity->groups[0]) == 0 &&
        seteuid(identity->user) == 0)
        return true;
    ind_identity_take_off();
    return false;
}

void ind_identity_take_off(void)
{
    (void)!seteuid(0);
    (void)!setegid(getgid());
    (void)!setgroups(0, NULL);
}
