/* collect/runtime/identity.h: as whom the collector runs, and what it may do beyond that.
 *
 * Sockets are opened with the rights that the process was started with; then it takes on the user of the
 * configuration for good, and keeps nothing but the right to open low ports (CAP_NET_BIND_SERVICE on Linux),
 * so that a reload can open others. Before there are threads: on Linux some of this is each thread's own. */
#ifndef IND_COLLECT_RUNTIME_IDENTITY_H
#define IND_COLLECT_RUNTIME_IDENTITY_H

#include <stdbool.h>
#include <stddef.h>
#include <sys/types.h>

enum { IND_MOST_GROUPS = 32 };

struct ind_identity {
    bool given; /* a user is; otherwise the process stays who it is */
    uid_t user;
    gid_t groups[IND_MOST_GROUPS]; /* the first is that of new files */
    size_t group_count;
};

/* Looks up names (or numbers) of a user and of groups; no group: the user's own. NULL as user: none is given.
 * False with `reason` filled in, which also tells where this process cannot take it on. */
bool ind_identity_find(const char *user, char *const *groups, size_t group_count,
                       struct ind_identity *identity, char *reason, size_t room);

/* Whether the process has all rights, and nobody has said whom it should become. */
bool ind_identity_is_root(const struct ind_identity *identity);

/* Becomes it, gives all rights up but `keep_ports`, and proves that they are gone. False with `reason` filled
 * in: then the process must not go on. Without a user, and as root, it does nothing. */
bool ind_identity_take_on(const struct ind_identity *identity, bool keep_ports, char *reason, size_t room);

/* Gives a file or a folder that we have just made to the user of the identity. */
void ind_identity_own(const struct ind_identity *identity, const char *path);

/* For a look at files as that user, by a process without threads: becomes it for a while, and itself again.
 * False where that is not possible, or not needed: nothing has changed then. */
bool ind_identity_try_on(const struct ind_identity *identity);
void ind_identity_take_off(void);

#endif
