/* thread/mutex.h: a mutex that clang knows, so that the compiler proves that it is given up wherever it is
 * taken, and held where a function needs it (-Wthread-safety, in "make lint").
 *
 * A value that is guarded says so with IND_GUARDED_BY behind its name: that is proved, too, where the
 * compiler can read such an attribute of a structure in C (IND_LATE_ATTRIBUTES; clang 14 and 19 cannot), and
 * is for the reader elsewhere. A mutex belongs to the structure that it stands in. It is never held while a
 * callback runs that could take it again, allocate, or go through more than a few entries. */
#ifndef IND_THREAD_MUTEX_H
#define IND_THREAD_MUTEX_H

#include <pthread.h>
#include <stdbool.h>

#if defined(__clang__)
#define IND_THREAD_ATTRIBUTE(x) __attribute__((x))
#else
#define IND_THREAD_ATTRIBUTE(x)
#endif
#if defined(IND_LATE_ATTRIBUTES)
#define IND_GUARDED_BY(mutex) IND_THREAD_ATTRIBUTE(guarded_by(mutex))
#else
#define IND_GUARDED_BY(mutex)
#endif
#define IND_REQUIRES(mutex) IND_THREAD_ATTRIBUTE(requires_capability(mutex))

/* Of functions that make or free what nobody else knows (any more). */
#define IND_NOT_SHARED IND_THREAD_ATTRIBUTE(no_thread_safety_analysis)

struct IND_THREAD_ATTRIBUTE(capability("mutex")) ind_mutex {
    pthread_mutex_t raw;
};

void ind_mutex_begin(struct ind_mutex *mutex);
void ind_mutex_end(struct ind_mutex *mutex);
void ind_mutex_lock(struct ind_mutex *mutex) IND_THREAD_ATTRIBUTE(acquire_capability(*mutex));
void ind_mutex_unlock(struct ind_mutex *mutex) IND_THREAD_ATTRIBUTE(release_capability(*mutex));

/* Waits by the steady clock. */
struct ind_condition_variable {
    pthread_cond_t raw;
};

void ind_condition_variable_begin(struct ind_condition_variable *condition);
void ind_condition_variable_end(struct ind_condition_variable *condition);
void ind_condition_variable_signal(struct ind_condition_variable *condition);
void ind_condition_variable_broadcast(struct ind_condition_variable *condition);

/* When a wait that begins now is to end. */
struct timespec ind_deadline(int milliseconds);

/* Waits for a signal; the mutex is given up meanwhile. False once the deadline has passed. May also return
 * without a signal: ask again what was waited for. */
bool ind_condition_variable_wait_until(struct ind_condition_variable *condition, struct ind_mutex *mutex,
                                       const struct timespec *deadline) IND_REQUIRES(*mutex);
void ind_condition_variable_wait(struct ind_condition_variable *condition, struct ind_mutex *mutex)
    IND_REQUIRES(*mutex);

#endif
