/* Gives a fuzzer the files of its corpus, one by one: so every finding stays a test, without clang. */
#include <dirent.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

int LLVMFuzzerTestOneInput(const uint8_t *bytes, size_t size);

static int replay(const char *path)
{
    static uint8_t bytes[1 << 20];
    FILE *file = fopen(path, "rb");
    if (!file)
        return 0;
    size_t size = fread(bytes, 1, sizeof bytes, file);
    fclose(file);
    uint8_t *exact = malloc(size ? size : 1); /* so that a sanitizer sees a step past the end */
    if (!exact)
        return 0;
    memcpy(exact, bytes, size);
    (void)LLVMFuzzerTestOneInput(exact, size);
    free(exact);
    return 1;
}

int main(int argc, char **argv)
{
    int count = 0;
    DIR *folder = argc > 1 ? opendir(argv[1]) : NULL;
    if (!folder)
        return 2;
    for (struct dirent *entry; (entry = readdir(folder)) != NULL;) {
        char path[1024];
        snprintf(path, sizeof path, "%s/%s", argv[1], entry->d_name);
        if (entry->d_name[0] != '.')
            count += replay(path);
    }
    closedir(folder);
    printf("%d files\n", count);
    return count ? 0 : 1;
}
