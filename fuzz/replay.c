/* Feeds every file named on the command line (or every file of a folder) to a fuzz target. */
#include <dirent.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <sys/stat.h>

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size);

static int replay(const char *path) {
    FILE *f = fopen(path, "rb");
    struct stat st;
    if (!f || fstat(fileno(f), &st))
        return -1;
    uint8_t *data = malloc((size_t)st.st_size + 1);
    size_t n = data ? fread(data, 1, (size_t)st.st_size, f) : 0;
    fclose(f);
    if (data)
        LLVMFuzzerTestOneInput(data, n);
    free(data);
    return 0;
}

int main(int argc, char **argv) {
    int count = 0;
    for (int i = 1; i < argc; i++) {
        DIR *d = opendir(argv[i]);
        struct dirent *e;
        char path[4096];
        while (d && (e = readdir(d))) {
            snprintf(path, sizeof path, "%s/%s", argv[i], e->d_name);
            if (e->d_name[0] != '.' && replay(path) == 0)
                count++;
        }
        if (d)
            closedir(d);
    }
    printf("%d inputs replayed\n", count);
    return count == 0;
}
