/* bench/write.c: what a write call costs: the same lines into one file, a write a line against writes of 256
 * KiB. Prints: MB/s (a write a line)  MB/s (256 KiB)  ratio. Usage: bench_write FOLDER */
#include "measure.h"

#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

enum { LINE = 180, TOTAL = 64 << 20, BIG = 256 << 10 };

static double megabytes_a_second(const char *path, const char *bytes, size_t piece)
{
    int file = open(path, O_WRONLY | O_CREAT | O_TRUNC, 0600);
    double start = now();
    size_t done = 0;
    if (file < 0)
        exit(1);
    for (; done + piece <= TOTAL; done += piece)
        if (write(file, bytes, piece) != (ssize_t)piece)
            exit(1);
    double rate = (double)done / 1e6 / (now() - start);
    close(file);
    unlink(path);
    return rate;
}

int main(int argc, char **argv)
{
    char path[4096], *bytes = malloc(BIG);
    double best[2] = {0, 0};
    snprintf(path, sizeof path, "%s/bench-write.tmp", argc > 1 ? argv[1] : "/tmp");
    memset(bytes, 'x', BIG);
    for (int round = 0; round < 5; round++) {
        double small = megabytes_a_second(path, bytes, LINE), big = megabytes_a_second(path, bytes, BIG);
        best[0] = small > best[0] ? small : best[0];
        best[1] = big > best[1] ? big : best[1];
    }
    printf("%.0f\t%.0f\t%.1f\n", best[0], best[1], best[1] / best[0]);
    free(bytes);
    return 0;
}
