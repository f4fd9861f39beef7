#include "thread/mutex.h"

#include <time.h>

void ind_mutex_begin(struct ind_mutex *mutex)
{
    pthread_mutex_init(&mutex->raw, NULL);
}

void ind_mutex_end(struct ind_mutex *mutex)
{
    pthread_mutex_destroy(&mutex->raw);
}

/* The two that the analysis takes on trust: what they do is not visible to it. */
#if defined(__clang__)
#define TRUSTED __attribute__((no_thread_safety_analysis))
#else
#define TRUSTED
#endif

TRUSTED void ind_mutex_lock(struct ind_mutex *mutex)
{
    pthread_mutex_lock(&mutex->raw);
}

TRUSTED void ind_mutex_unlock(struct ind_mutex *mutex)
{
    pthread_mutex_unlock(&mutex->raw);
}

void ind_condition_variable_begin(struct ind_condition_variable *condition)
{
    pthread_condattr_t attributes;
    pthread_condattr_init(&attributes);
    pthread_condattr_setclock(&attributes, CLOCK_MONOTONIC);
    pthread_cond_init(&condition->raw, &attributes);
    pthread_condattr_destroy(&attributes);
}

void ind_condition_variable_end(struct ind_condition_variable *condition)
{
    pthread_cond_destroy(&condition->raw);
}

void ind_condition_variable_signal(struct ind_condition_variable *condition)
{
    pthread_cond_signal(&condition->raw);
}

void ind_condition_variable_broadcast(struct ind_condition_variable *condition)
{
    pthread_cond_broadcast(&condition->raw);
}

struct timespec ind_deadline(int milliseconds)
{
    struct timespec time;
    clock_gettime(CLOCK_MONOTONIC, &time);
    time.tv_sec += milliseconds / 1000;
    time.tv_nsec += (long)(milliseconds % 1000) * 1000000;
    if (time.tv_nsec >= 1000000000) {
        time.tv_nsec -= 1000000000;
        time.tv_sec++;
    }
    return time;
}

bool ind_condition_variable_wait_until(struct ind_condition_variable *condition, struct ind_mutex *mutex,
                                       const struct timespec *deadline)
{
    return pthread_cond_timedwait(&condition->raw, &mutex->raw, deadline) == 0;
}

void ind_condition_variable_wait(struct ind_condition_variable *condition, struct ind_mutex *mutex)
{
    pthread_cond_wait(&condition->raw, &mutex->raw);
}
