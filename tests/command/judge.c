/* Every volume that a command test builds is judged: by the file system's own checker. */
#define _GNU_SOURCE
#include "support.h"

#include "base/bytes.h"

#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

static struct judged {
    unsigned long ext4, fat, tables;
} * judged; /* by the processes of all suites */

static void add(unsigned long *count) {
    __atomic_fetch_add(count, 1, __ATOMIC_RELAXED);
}

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
        add(&judged->ext4);
        CU_ASSERT(runs_quietly("$JUDGE e2fsck -fn '%s?offset=%llu'", image, at));
    } else if (holds && strncmp(holds, "fat", 3) == 0) {
        add(&judged->fat);
        CU_ASSERT(
            runs_quietly("dd if='%s' of='%s.fat' bs=1M iflag=skip_bytes,count_bytes skip=%llu "
                         "count=%llu conv=sparse status=none && $JUDGE fsck.fat -n '%s.fat' && rm "
                         "'%s.fat'",
                         image, test_root(), at, length, test_root(), test_root()));
    }
}

/* The table as the system's own reader has it, and the fields that it does not look at. */
static void judge_table(const char *image, const json_t *d) {
    unsigned long long size = (unsigned long long)json_integer_value(json_object_get(d, "size")),
                       sector =
                           (unsigned long long)json_integer_value(json_object_get(d, "sector"));
    const json_t *region;
    size_t i, numbered = 0;
    json_array_foreach(json_object_get(d, "regions"), i, region) numbered +=
        json_object_get(region, "number") != NULL;
    if (!numbered)
        return;
    if (sector != 512) /* this reader knows no others of a file: the peers run has a loop device */
        return;
    struct outcome o = run_shell("sfdisk -q --verify '%s' >&2 && sfdisk -J '%s'", image, image);
    CU_ASSERT_EQUAL(o.status, 0);
    if (o.status)
        printf("%s: %s\n", image, o.err);
    json_t *all = json_loads(o.out, 0, NULL), *partition,
           *table = json_object_get(all, "partitiontable");
    add(&judged->tables);
    size_t found = 0;
    json_array_foreach(json_object_get(table, "partitions"), i, partition) {
        json_int_t start = json_integer_value(json_object_get(partition, "start")),
                   length = json_integer_value(json_object_get(partition, "size"));
        size_t k;
        json_array_foreach(json_object_get(d, "regions"), k, region) found +=
            json_object_get(region, "number") != NULL &&
            json_integer_value(json_object_get(region, "offset")) == start * (json_int_t)sector &&
            json_integer_value(json_object_get(region, "length")) == length * (json_int_t)sector;
    }
    CU_ASSERT_EQUAL(found, numbered);
    if (found != numbered)
        printf("%s: not as described: %s\n", image, o.out);
    const char *label = json_string_value(json_object_get(table, "label"));
    if (label && strcmp(label, "gpt") == 0) {
        uint8_t h[2][92];
        FILE *f = fopen(image, "rb");
        for (int k = 0; f && k < 2; k++)
            CU_ASSERT(fseeko(f, k ? (off_t)(size - sector) : (off_t)sector, SEEK_SET) == 0 &&
                      fread(h[k], 1, 92, f) == 92);
        fclose(f);
        uint64_t last = size / sector - 1, entries = mos_le32(h[0] + 80),
                 room = (entries * 128 + sector - 1) / sector;
        CU_ASSERT(mos_le64(h[0] + 24) == 1 && mos_le64(h[0] + 32) == last);
        CU_ASSERT(mos_le64(h[1] + 24) == last && mos_le64(h[1] + 32) == 1);
        CU_ASSERT(mos_le64(h[0] + 48) == last - room - 1 && mos_le32(h[0] + 84) == 128);
        CU_ASSERT(mos_le64(h[0] + 40) >= mos_le64(h[0] + 72) + room ||
                  mos_le64(h[0] + 72) > mos_le64(h[0] + 40));
        CU_ASSERT(mos_le64(h[1] + 72) == last - room && mos_le32(h[0] + 12) == 92);
        CU_ASSERT_EQUAL(memcmp(h[0] + 40, h[1] + 40, 32), 0);
    }
    json_decref(all);
    outcome_free(&o);
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
        judge_table(full, image);
        free(full);
    }
    free(folder);
    json_decref(d);
}

/* After a build that went well: every ledger that was not there before. */
static void judge_new(const char *command, int status) {
    static struct timespec last;
    static bool busy;
    struct stat st;
    if (busy || status || !strstr(command, "build") || !test_root())
        return;
    busy = true;
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
    busy = false;
}

void judge_builds(void) {
    judged = shared_memory(sizeof *judged);
    after_command = judge_new;
}

/* The last suite: nothing was judged where nothing was built. */
static void volumes_were_judged(void) {
    if (!getenv("MOSAICUM_SUITE"))
        CU_ASSERT(judged->ext4 > 20 && judged->fat > 20 && judged->tables > 20);
    printf("%lu ext4, %lu FAT, %lu tables … ", judged->ext4, judged->fat, judged->tables);
}

SUITE(judge_suite, {"volumes were judged", volumes_were_judged});
