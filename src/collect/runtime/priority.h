/* collect/runtime/priority.h: threads that step back behind those that receive and write.
 *
 * Each acts on the thread that calls it, for good. Where the system has nothing of the kind nothing happens:
 * the thread does its work all the same. */
#ifndef IND_COLLECT_RUNTIME_PRIORITY_H
#define IND_COLLECT_RUNTIME_PRIORITY_H

/* Others come first to the processor. */
void ind_priority_yield_processor(void);
/* Others come first to the disk. */
void ind_priority_yield_disk(void);

#endif
