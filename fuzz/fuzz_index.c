/* What a cache may hold: an index of an archive (its sum put right, so that what is behind it is
 * reached; read, replayed, saved: the same again), and texts
 * of users, of which nothing but tokens may stay. */
#include "harness.h"

#include "base/hash.h"
#include "content/content.h"

struct counts {
    size_t entries, ends;
    uint64_t bytes, size;
    bool open;
};

static bool count_entry(void *self, const struct mos_entry *e) {
    struct counts *c = self;
    if (c->open || !e->path || strlen(e->path) == SIZE_MAX)
        __builtin_trap();
    c->open = true;
    c->entries++;
    c->size = e->size;
    return true;
}

static bool count_data(void *self, uint64_t offset, const void *bytes, size_t length) {
    struct counts *c = self;
    if (!c->open || offset > c->size || length > c->size - offset)
        __builtin_trap();
    c->bytes += bytes ? ((const uint8_t *)bytes)[length ? length - 1 : 0] & 1 : 0;
    return c->bytes < UINT64_MAX;
}

static bool count_end(void *self, uint64_t sum) {
    struct counts *c = self;
    (void)sum;
    c->open = false;
    c->ends++;
    return true;
}

static void index_body(struct mos_ctx *ctx, const uint8_t *data, size_t size) {
    struct counts c = {0};
    struct mos_sink sink = {&c, count_entry, count_data, count_end};
    struct mos_buf first = {.arena = ctx->arena}, second = {.arena = ctx->arena};
    if (size < MOS_SHA256_SIZE)
        return;
    uint8_t *copy = (uint8_t *)mos_strndup(ctx->arena, (const char *)data, size);
    mos_sha256(copy, size - MOS_SHA256_SIZE, copy + size - MOS_SHA256_SIZE);
    struct mos_index *index = mos_index_load(ctx, copy, size);
    if (!index)
        return;
    if (mos_index_replay(ctx, index, &sink) &&
        (c.entries != mos_index_count(index) || c.ends != c.entries))
        __builtin_trap();
    mos_index_save(index, &first);
    struct mos_index *again = mos_index_load(ctx, first.data, first.length);
    if (!again)
        __builtin_trap();
    mos_index_save(again, &second);
    if (first.length != second.length || memcmp(first.data, second.data, first.length) != 0)
        __builtin_trap();
}

/* The second field of each line: gone, or so short that it says nothing. */
static void text_body(struct mos_ctx *ctx, const uint8_t *data, size_t size) {
    char *text = mos_strndup(ctx->arena, (const char *)data, size);
    char *once = mos_strndup(ctx->arena, text, size);
    mos_text_redact(once, size);
    for (size_t i = 0; i < size; i++) /* lines and fields stay where they are */
        if ((text[i] == '\n') != (once[i] == '\n'))
            __builtin_trap();
    for (size_t i = 0; i < size;) {
        size_t end = i, colon = i;
        while (end < size && text[end] != '\n')
            end++;
        while (colon < end && text[colon] != ':')
            colon++;
        size_t from = colon + 1;
        while (from < end && (text[from] == '!' || text[from] == '*'))
            from++; /* locks stay */
        size_t to = from;
        while (to < end && text[to] != ':')
            to++;
        if (colon < end && to - from >= 8 /* shorter ones could be their own tokens by chance */ &&
            memcmp(text + from, once + from, to - from) == 0)
            __builtin_trap();
        i = end + 1;
    }
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size) {
    if (!size)
        return 0;
    return fuzz_run(data + 1, size - 1, *data & 1 ? text_body : index_body);
}
