/* The ledger is true, and running out of memory anywhere loses nothing. */
#include "support.h"

#include "api/run.h"
#include "base/bytes.h"
#include "platform/platform.h"

#include <stdlib.h>
#include <string.h>
#include <unistd.h>

static char *built; /* the demo, built once */

static json_t *ledger(void) {
    if (!built) {
        built = test_folder("ledger");
        CU_ASSERT(runs(0, "'%s' --no-cache -q -w '%s/demo/saltmarsh' build curlew --out '%s'",
                       MOSAICUM_PROGRAM, MOSAICUM_SOURCE, built));
    }
    json_t *d = json_load_file(path_in(built, "curlew/ledger.json"), 0, NULL);
    CU_ASSERT_PTR_NOT_NULL_FATAL(d);
    return d;
}

static const char *text(json_t *o, const char *key) {
    const char *t = json_string_value(json_object_get(o, key));
    return t ? t : "";
}

static void hash_of(const char *path, char hex[65]) {
    struct mos_error error = {0};
    uint8_t hash[32] = {0};
    mos_hash_file(mos_platform_host(), path, hash, &error);
    mos_sha256_hex(hash, hex);
}

static void inputs_and_outputs_have_their_hashes(void) {
    json_t *d = ledger(), *o;
    size_t i, members = 0;
    char hex[65];
    json_array_foreach(json_object_get(d, "inputs"), i, o) {
        members += json_object_get(o, "path") != NULL;
        if (json_object_get(o, "path"))
            continue;
        hash_of(path_in(MOSAICUM_SOURCE, "demo/saltmarsh/%s", text(o, "file")), hex);
        if (strcmp(text(o, "name"), "linux") == 0)
            CU_ASSERT_STRING_EQUAL(text(o, "license"), "GPL-2.0-only");
        CU_ASSERT_STRING_EQUAL(hex, text(o, "sha256"));
    }
    CU_ASSERT_EQUAL(members, 1); /* the kernel in its archive */
    json_array_foreach(json_object_get(d, "outputs"), i, o) {
        hash_of(path_in(built, "curlew/%s", text(o, "file")), hex);
        CU_ASSERT_STRING_EQUAL(hex, text(o, "sha256"));
    }
    json_decref(d);
}

/* Spans do not overlap, what must be zero is, and what is no data may be anything. */
static void spans_are_true(void) {
    json_t *d = ledger(), *image = json_array_get(json_object_get(d, "images"), 0), *o;
    size_t i, kinds[3] = {0};
    static uint8_t bytes[1 << 16];
    FILE *f = fopen(path_in(built, "curlew/card.img"), "rb");
    CU_ASSERT_PTR_NOT_NULL_FATAL(f);
    enum { UNIT = 64 }; /* spans may end within a sector */
    uint8_t *covered = calloc(1, 960 * (1 << 20) / UNIT);
    json_array_foreach(json_object_get(image, "spans"), i, o) {
        uint64_t offset = (uint64_t)json_integer_value(json_object_get(o, "offset"));
        uint64_t length = (uint64_t)json_integer_value(json_object_get(o, "length"));
        bool zero = strcmp(text(o, "kind"), "zero") == 0,
             data = strcmp(text(o, "kind"), "data") == 0;
        kinds[data ? 0 : zero ? 1 : 2]++;
        for (uint64_t s = offset / UNIT; s < (offset + length + UNIT - 1) / UNIT; s++)
            CU_ASSERT_EQUAL(covered[s]++, 0);
        for (uint64_t at = 0; at < length && !data; at += sizeof bytes) {
            size_t n = (size_t)mos_min(sizeof bytes, length - at);
            fseek(f, (long)(offset + at), SEEK_SET);
            CU_ASSERT_EQUAL(fread(bytes, 1, n, f), n);
            CU_ASSERT(bytes[0] == 0 && memcmp(bytes, bytes + 1, n - 1) == 0);
        }
    }
    CU_ASSERT(kinds[0] > 5 && kinds[1] > 5 && kinds[2] > 3);
    fclose(f);
    free(covered);
    json_decref(d);
}

static void chunks_have_their_hashes(void) {
    json_t *d = ledger(), *image = json_array_get(json_object_get(d, "images"), 0);
    json_t *chunks = json_object_get(image, "chunks");
    static uint8_t bytes[4 << 20];
    FILE *f = fopen(path_in(built, "curlew/card.img"), "rb");
    CU_ASSERT_EQUAL(json_array_size(chunks), 240);
    static const size_t some[] = {0, 1, 2, 17, 18, 100, 239};
    for (size_t i = 0; i < sizeof some / sizeof *some; i++) {
        uint8_t hash[32];
        char hex[65];
        fseek(f, (long)(some[i] * sizeof bytes), SEEK_SET);
        CU_ASSERT_EQUAL(fread(bytes, 1, sizeof bytes, f), sizeof bytes);
        mos_sha256(bytes, sizeof bytes, hash);
        mos_sha256_hex(hash, hex);
        CU_ASSERT_STRING_EQUAL(hex, json_string_value(json_array_get(chunks, some[i])));
    }
    fclose(f);
    json_decref(d);
}

/* No clock, host or absolute path. */
static void nothing_private_is_in_it(void) {
    json_decref(ledger());
    char *t = read_whole(path_in(built, "curlew/ledger.json"), NULL), host[256] = "";
    gethostname(host, sizeof host - 1);
    CU_ASSERT_PTR_NULL(strstr(t, MOSAICUM_SOURCE));
    CU_ASSERT_PTR_NULL(strstr(t, built));
    CU_ASSERT_PTR_NULL(strstr(t, "\"/"));
    CU_ASSERT(!*host || !strstr(t, host));
    free(t);
}

/* Handles of outside libraries that are open when memory runs out end with the process; the leak
 * checker need not know. */
void __lsan_disable(void) __attribute__((weak));
void __lsan_enable(void) __attribute__((weak));

/* The n-th allocation fails, for many n: status 3, nothing under a final name, no crash. */
static void running_out_of_memory_loses_nothing(void) {
    char *out = test_folder("memory"), *w = keep(path_in(MOSAICUM_SOURCE, "demo/saltmarsh"));
    const char *board = "curlew";
    unsigned failed = 0;
    if (__lsan_disable)
        __lsan_disable();
    for (unsigned long n = 1; n < 6000; n += n < 50 ? 1 : n / 12) {
        struct mosaicum_options o = {.host = mos_platform_host(), .workspace = w};
        mosaicum *m = mosaicum_new(&o);
        CU_ASSERT_PTR_NOT_NULL_FATAL(m);
        mos_arena_fail_after(m->arena, n);
        m->fail_after = n;
        int status = mosaicum_build(m, &board, 1, out);
        failed += status == MOSAICUM_SYSTEM;
        CU_ASSERT(status == MOSAICUM_SYSTEM || status == MOSAICUM_DONE);
        CU_ASSERT_EQUAL(exists(path_in(out, "curlew")), status == MOSAICUM_DONE);
        CU_ASSERT_FALSE(exists(path_in(out, "curlew.part")));
        mosaicum_free(m);
        remove_folder(path_in(out, "curlew"));
    }
    if (__lsan_enable)
        __lsan_enable();
    CU_ASSERT(failed > 60);
}

SUITE(ledger_suite, {"inputs and outputs", inputs_and_outputs_have_their_hashes},
      {"spans", spans_are_true}, {"chunks", chunks_have_their_hashes},
      {"nothing private", nothing_private_is_in_it},
      {"memory runs out", running_out_of_memory_loses_nothing});
