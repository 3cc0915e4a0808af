/* What every target needs: a core context that is thrown away after each input. */
#ifndef MOS_FUZZ_HARNESS_H
#define MOS_FUZZ_HARNESS_H

#include "base/ctx.h"
#include "platform/platform.h"

#include <string.h>

/* Runs `body` with a fresh context; running out of memory ends the input quietly. */
static inline int fuzz_run(const uint8_t *data, size_t size,
                           void (*body)(struct mos_ctx *ctx, const uint8_t *data, size_t size)) {
    static jmp_buf out_of_memory;
    struct mos_error error = {0};
    struct mos_arena *arena = mos_arena_new(&out_of_memory);
    if (!arena)
        return 0;
    if (setjmp(out_of_memory) == 0) {
        struct mos_ctx ctx = {.host = mos_platform_host(),
                              .arena = arena,
                              .error = &error,
                              .findings = mos_findings_make(arena),
                              .not_proved = mos_vec_make(arena, sizeof(char *)),
                              .no_run = true};
        body(&ctx, data, size);
    }
    mos_arena_free(arena);
    return 0;
}

/* The input as a source, NUL-terminated like a file that was read. */
static inline const struct mos_source *fuzz_source(struct mos_ctx *ctx, const uint8_t *data,
                                                   size_t size) {
    return mos_source_make(ctx->arena, "input", mos_strndup(ctx->arena, (const char *)data, size),
                           size, 0);
}

#endif
