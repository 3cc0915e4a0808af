/* What the guard is told: a computer as the kernel tells of it, and behind a zero byte a mount
 * table as it is.  Whatever is mounted, swapped to, open, held or below the system is never
 * allowed. */
#include "harness.h"

#include "computer/made-up.h"
#include "media/verdict.h"

#include <stdlib.h>

enum { MOST = 64 << 10 };

static bool is_used(const struct mos_block *b) {
    bool used = b->mounts.count || b->swap || b->users.count || b->holders.count || b->system;
    for (size_t i = 0; i < b->parts.count; i++)
        used |= is_used(mos_vec_pointer(&b->parts, i));
    return used;
}

static void judge(struct mos_ctx *ctx, const struct mos_storage *s) {
    for (size_t i = 0; i < s->blocks.count; i++) {
        struct mos_block *b = mos_vec_pointer(&s->blocks, i);
        const struct mos_media_look look = {0};
        const struct mos_media_wish wish = {.also = true, .volume = b->whole != NULL};
        char token[MOS_TOKEN_LETTERS + 1];
        struct mos_vec all = mos_media_judge(ctx, s, b, &look, &wish);
        if ((is_used(b) || s->untold) && !all.count)
            __builtin_trap();
        for (size_t k = 0; k < all.count; k++) {
            const struct mos_objection *o = mos_vec_at(&all, k);
            if (!o->brief || !o->message || !o->remedy)
                __builtin_trap();
        }
        if (!mos_media_token(ctx->arena, b, "head", 4, token) || !mos_media_token_is(token, token))
            __builtin_trap();
        if (mos_storage_find(s, b->number) == NULL || (b->whole && b->whole->whole == b))
            __builtin_trap();
    }
}

static void body(struct mos_ctx *ctx, const uint8_t *data, size_t size) {
    char why[100], *text = mos_strndup(ctx->arena, (const char *)data, size < MOST ? size : MOST);
    size_t n = strlen(text);
    struct made_up *m = made_up_new(text, NULL, why, sizeof why);
    struct mos_host host = *ctx->host;
    struct mos_storage s;
    if (!m)
        return;
    if (n < size)
        made_up_set(m, "proc/self/mountinfo",
                    mos_strndup(ctx->arena, (const char *)data + n + 1, size - n - 1));
    host.computer = made_up_computer(m);
    ctx->host = &host;
    if (mos_storage_read(ctx, &s))
        judge(ctx, &s);
    made_up_free(m);
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size) {
    return fuzz_run(data, size, body);
}
