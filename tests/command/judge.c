/* Every volume that a command test builds is judged: by the file system's own checker. */
#define _GNU_SOURCE
#include "support.h"

#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

static struct {
    unsigned long ext4, fat;
    bool busy;
} judged;

static bool runs_quietly(const char *format, ...) __attribute__((format(printf, 1, 2)));
static bool runs_quietly(const char *format, ...) {
    char *command;
    va_list arguments;
    va_start(arguments, format);
    if (vasprintf(&command, format, arguments) < 0)
        abort();
    va_end(arguments);
    bool good = runs(0, "%s", command);
    if (!good)
        fprintf(stderr, "\njudged: %s\n", command);
    free(command);
    return good;
}

static void judge_region(const char *image, const json_t *region) {
    const char *holds = json_string_value(json_object_get(region, "holds"));
    unsigned long long at = (unsigned long long)json_integer_value(
                           json_object_get(region, "offset")),
                       length = (unsigned long long)json_integer_value(
                           json_object_get(region, "length"));
    if (holds && strcmp(holds, "ext4") == 0) {
        judged.ext4++;
        CU_ASSERT(runs_quietly("e2fsck -fn '%s?offset=%llu'", image, at));
    } else if (holds && strncmp(holds, "fat", 3) == 0) {
        judged.fat++;
        CU_ASSERT(
            runs_quietly("dd if='%s' of='%s.fat' bs=1M iflag=skip_bytes,count_bytes skip=%llu "
                         "count=%llu conv=sparse status=none && fsck.fat -n '%s.fat' && rm "
                         "'%s.fat'",
                         image, test_root(), at, length, test_root(), test_root()));
    }
}

static void judge_ledger(const char *path) {
    json_t *d = json_load_file(path, 0, NULL), *image, *region;
    size_t i, k;
    char *folder = strndup(path, strlen(path) - strlen("ledger.json"));
    json_array_foreach(json_object_get(d, "images"), i, image) {
        const char *file = json_string_value(json_object_get(image, "file"));
        char *full;
        if (!file || asprintf(&full, "%s%s", folder, file) < 0)
            continue;
        json_array_foreach(json_object_get(image, "regions"), k, region) judge_region(full, region);
        free(full);
    }
    free(folder);
    json_decref(d);
}

/* After a build that went well: every ledger that was not there before. */
static void judge_new(const char *command, int status) {
    static struct timespec last;
    struct stat st;
    if (judged.busy || status || !strstr(command, "build") || !test_root())
        return;
    judged.busy = true;
    char *list;
    if (asprintf(&list, "find '%s' -name ledger.json -size +1k ! -path '*/rules/*'", test_root()) <
        0)
        abort();
    FILE *f = popen(list, "r");
    char path[4096];
    struct timespec newest = last;
    while (f && fgets(path, sizeof path, f)) {
        path[strcspn(path, "\n")] = 0;
        if (stat(path, &st) || st.st_mtim.tv_sec < last.tv_sec ||
            (st.st_mtim.tv_sec == last.tv_sec && st.st_mtim.tv_nsec <= last.tv_nsec))
            continue;
        judge_ledger(path);
        if (st.st_mtim.tv_sec > newest.tv_sec ||
            (st.st_mtim.tv_sec == newest.tv_sec && st.st_mtim.tv_nsec > newest.tv_nsec))
            newest = st.st_mtim;
    }
    if (f)
        pclose(f);
    free(list);
    last = newest;
    judged.busy = false;
}

void judge_builds(void) {
    after_command = judge_new;
}

/* The last suite: nothing was judged where nothing was built. */
static void volumes_were_judged(void) {
    if (!getenv("MOSAICUM_SUITE"))
        CU_ASSERT(judged.ext4 > 20 && judged.fat > 20);
    printf("%lu ext4, %lu FAT … ", judged.ext4, judged.fat);
}

SUITE(judge_suite, {"volumes were judged", volumes_were_judged});
