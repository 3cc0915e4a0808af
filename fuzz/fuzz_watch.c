/* What comes over a serial line, and what is typed into it: the watch over a board, the passage to
 * a terminal, the keys, the search for the speed.  The first byte says into which pieces it is cut.
 */
#include "harness.h"

#include "link/keys.h"
#include "link/passage.h"
#include "link/speed.h"
#include "watch/watch.h"

#include <stdlib.h>

#define MS INT64_C(1000000)

static const struct mos_landmark landmarks[] = {
    {"first-stage", "", MOS_AT_FIRST, "^U-Boot SPL {20...)}", NULL, 0, 900 * MS, true, true, false},
    {"loader", "", MOS_AT_LOADER, "^U-Boot {20...)}", "2023.01 (Aug 09 2023 - 12:00:00 +0000)",
     MOS_SYMPTOM_OTHER_LOADER, 900 * MS, true, false, false},
    {"hand-over", "", MOS_AT_HAND_OVER, "^Starting kernel ...", NULL, 0, 900 * MS, false, false,
     false},
    {"kernel", "", MOS_AT_KERNEL, "^Linux version {} (", "6.1.0-50-arm64", MOS_SYMPTOM_OTHER_KERNEL,
     900 * MS, true, false, false},
    {"log-in", "", MOS_AT_SYSTEM, " login:", NULL, 0, 900 * MS, false, false, true},
};
enum { LANDMARKS = sizeof landmarks / sizeof *landmarks };

/* Made once: that takes longer than an input. */
static const struct mos_watch_texts *all_texts(void) {
    static const struct mos_watch_texts *texts;
    static jmp_buf out_of_memory;
    if (!texts && setjmp(out_of_memory) == 0) {
        struct mos_arena *arena = mos_arena_new(&out_of_memory);
        texts = arena ? mos_watch_texts(arena, landmarks, LANDMARKS) : NULL;
    }
    return texts;
}

static void watch(struct mos_ctx *ctx, const uint8_t *data, size_t size, size_t piece) {
    struct mos_watch *w = mos_alloc(ctx->arena, sizeof *w);
    struct mos_watch_settings s = {.arena = ctx->arena,
                                   .landmarks = landmarks,
                                   .count = LANDMARKS,
                                   .texts = all_texts(),
                                   .prompt = "=> ",
                                   .network = true,
                                   .starts = 3};
    mos_watch_begin(w, &s, 0);
    for (size_t at = 0; at < size; at += piece) {
        mos_watch_take(w, data + at, piece < size - at ? piece : size - at, 1);
        mos_watch_look(w, 1);
        if (w->next > LANDMARKS || w->lines.odd > w->lines.bytes)
            __builtin_trap();
    }
    const struct mos_watch_verdict *v = mos_watch_close(w, MOS_WATCH_ENOUGH, 1);
    /* a board that did not come up has its reason, and is never called well */
    if (v->end == MOS_WATCH_GOES_ON || (v->end == MOS_WATCH_STOPPED && !v->has_symptom) ||
        (v->end == MOS_WATCH_WELL && !w->marks[LANDMARKS - 1].reached))
        __builtin_trap();
    mos_symptom_text(ctx->arena, v->symptom, v->values, v->value_count);
}

static void pass(const uint8_t *data, size_t size, size_t piece) {
    struct mos_passage p = {0}, q = {0};
    size_t room = 3 * size + MOS_PASSAGE_MORE * 4, n = 0;
    char *out = malloc(room + MOS_PASSAGE_MORE), *again = malloc(3 * room + MOS_PASSAGE_MORE);
    for (size_t at = 0; out && at < size; at += piece)
        n += mos_passage_take(&p, data + at, piece < size - at ? piece : size - at, out + n);
    if (out && again && n > room)
        __builtin_trap();
    size_t m = out && again ? mos_passage_take(&q, (const uint8_t *)out, n, again) : 0;
    if (out && again && (q.held || m != n || memcmp(out, again, n) != 0))
        __builtin_trap();
    free(out);
    free(again);
}

static void type(const uint8_t *data, size_t size, size_t piece) {
    struct mos_keys *k = calloc(1, sizeof *k);
    uint8_t out[64];
    int64_t now = 0;
    size_t went = 0;
    for (size_t at = 0; k && at < size; at += piece, now += 30 * MS) {
        mos_keys_take(k, data + at, piece < size - at ? piece : size - at, now);
        size_t n = mos_keys_next(k, now, out, sizeof out);
        mos_keys_hear(k, data + at, n < size - at ? n : size - at, now);
        went += n;
    }
    for (; k && mos_keys_due(k) != INT64_MAX; now += 250 * MS) {
        size_t n = mos_keys_next(k, now, out, sizeof out);
        went += n;
        if (now > 200000 * 1000 * MS)
            __builtin_trap();
    }
    if (k && (k->count || went > size || went + k->dropped + 5 * size < size))
        __builtin_trap();
    free(k);
}

static void body(struct mos_ctx *ctx, const uint8_t *data, size_t size) {
    if (size < 2)
        return;
    size_t piece = 1 + data[0];
    watch(ctx, data + 1, size - 1, piece);
    pass(data + 1, size - 1, piece);
    type(data + 1, size - 1, piece);
    struct mos_speed_search s;
    mos_speed_begin(&s, 115200);
    for (size_t at = 1; at < size; at += piece)
        mos_speed_take(&s, data + at, piece < size - at ? piece : size - at);
    if (!s.current)
        __builtin_trap();
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size) {
    return fuzz_run(data, size, body);
}
