#include "media/verdict.h"

#include "base/bytes.h"
#include "base/hash.h"
#include "base/text.h"

#include <stdarg.h>
#include <string.h>

struct judge {
    struct mos_ctx *ctx;
    const struct mos_storage *s;
    const struct mos_block *b;
    const struct mos_media_look *look;
    const struct mos_media_wish *wish;
    struct mos_vec out;
};

/* One more objection; `brief` is filled in by the caller's format. */
static struct mos_objection *object(struct judge *j, enum mos_rule_id rule, const char *format, ...)
    __attribute__((format(printf, 3, 4)));

static struct mos_objection *object(struct judge *j, enum mos_rule_id rule, const char *format,
                                    ...) {
    va_list arguments;
    va_start(arguments, format);
    const char *brief = mos_vprintf(j->ctx->arena, format, arguments);
    va_end(arguments);
    struct mos_objection *o = mos_vec_push(&j->out);
    o->rule = rule;
    o->brief = brief;
    return o;
}

/* ---- who uses it ---- */

static const char *part_text(struct judge *j, const struct mos_block *p) {
    return p == j->b ? "" : mos_printf(j->ctx->arena, " (%s)", p->path);
}

static void judge_mounts(struct judge *j, const struct mos_block *p) {
    struct mos_arena *arena = j->ctx->arena;
    for (size_t i = 0; i < p->mounts.count; i++) {
        const struct mos_mounted *m = mos_vec_at(&p->mounts, i);
        const char *seen =
            m->process ? mos_printf(arena, " in the namespace of %s", m->process) : "";
        struct mos_objection *o = object(j, MOS_RULE_WRITE_MOUNTED, "mounted at %s%s", m->at, seen);
        o->message =
            mos_printf(arena, "%s%s is mounted at %s%s.", j->b->path, part_text(j, p), m->at, seen);
        o->remedy = m->process
                        ? "End that program, or the container it runs in."
                        : mos_printf(arena, "Use --unmount, or release it with umount %s.", m->at);
    }
    if (p->swap) {
        struct mos_objection *o = object(j, MOS_RULE_WRITE_MOUNTED, "used as swap");
        o->message = mos_printf(arena, "The system swaps to %s%s.", j->b->path, part_text(j, p));
        o->remedy = mos_printf(arena, "Use another device; swapoff %s ends it.", p->path);
    }
}

static void judge_holders(struct judge *j, const struct mos_block *p) {
    struct mos_arena *arena = j->ctx->arena;
    for (size_t i = 0; i < p->holders.count; i++) {
        const char *holder = mos_vec_pointer(&p->holders, i);
        struct mos_objection *o = object(j, MOS_RULE_WRITE_IN_USE, "part of %s", holder);
        o->message = mos_printf(arena, "%s%s is part of %s.", j->b->path, part_text(j, p), holder);
        o->remedy = "Use another device, or take that apart first.";
    }
    for (size_t i = 0; i < p->users.count; i++) {
        const char *user = mos_vec_pointer(&p->users, i);
        struct mos_objection *o = object(j, MOS_RULE_WRITE_IN_USE, "open in %s", user);
        o->message =
            mos_printf(arena, "The program %s has %s%s open.", user, j->b->path, part_text(j, p));
        o->remedy = "End that program first.";
    }
}

static void judge_uses(struct judge *j) {
    const struct mos_block *b = j->b;
    judge_mounts(j, b);
    for (size_t i = 0; i < b->parts.count; i++)
        judge_mounts(j, mos_vec_pointer(&b->parts, i));
    judge_holders(j, b);
    for (size_t i = 0; i < b->parts.count; i++)
        judge_holders(j, mos_vec_pointer(&b->parts, i));
    if (b->whole) /* somebody has all of it */
        judge_holders(j, b->whole);
    if (j->look->member) {
        struct mos_objection *o = object(j, MOS_RULE_WRITE_IN_USE, "member of %s", j->look->member);
        o->message = mos_printf(j->ctx->arena, "%s is a member of %s, which need not run now.",
                                b->path, j->look->member);
        o->remedy = "Use another device, or take it out of that for good.";
    }
    if (b->backing && j->wish->image && strcmp(b->backing, j->wish->image) == 0) {
        struct mos_objection *o = object(j, MOS_RULE_WRITE_IN_USE, "stands on the image itself");
        o->message = mos_printf(j->ctx->arena, "%s stands on %s, which is to be written to it.",
                                b->path, b->backing);
        o->remedy = "Use a device that stands on something else.";
    }
    if (j->s->untold) {
        struct mos_objection *o = object(j, MOS_RULE_WRITE_IN_USE, "its users are not known");
        o->message = mos_printf(j->ctx->arena,
                                "Mounts, swap and programs of this computer cannot be listed, so "
                                "nobody knows who uses %s.",
                                b->path);
        o->remedy = "Run this where /proc is mounted, and can be read.";
    }
}

/* ---- what it is ---- */

static void judge_system(struct judge *j) {
    const struct mos_block *b = j->b;
    const char *part = b->system;
    for (size_t i = 0; i < b->parts.count && !part; i++)
        part = ((const struct mos_block *)mos_vec_pointer(&b->parts, i))->system;
    if (!part)
        return;
    struct mos_objection *o =
        object(j, MOS_RULE_WRITE_SYSTEM_DISK, "the running system stands on it (%s)", part);
    o->message = mos_printf(j->ctx->arena, "The running system stands on %s: its %s is there.",
                            b->path, part);
    o->remedy = "Use another device; mosaicum devices lists them.";
}

static void judge_kind(struct judge *j) {
    const struct mos_block *b = j->b;
    struct mos_arena *arena = j->ctx->arena;
    if (b->whole && !j->wish->volume) {
        struct mos_objection *o =
            object(j, MOS_RULE_WRITE_PARTITION, "a partition of %s", b->whole->path);
        o->message = mos_printf(arena, "%s is a partition of %s, and the image is for all of it.",
                                b->path, b->whole->path);
        o->remedy = mos_printf(arena, "Write to %s.", b->whole->path);
    } else if (!b->whole && j->wish->volume) {
        struct mos_objection *o = object(j, MOS_RULE_WRITE_PARTITION, "a whole device");
        o->message = mos_printf(
            arena, "The image is one file system without a table, and %s is a whole device.",
            b->path);
        o->remedy = "Use one of its partitions, or build the image of the whole medium.";
    }
    if (b->is_area) {
        struct mos_objection *o =
            object(j, MOS_RULE_WRITE_PARTITION, "a boot area of soldered storage");
        o->message = mos_printf(arena, "%s is an area of an eMMC, not its user area.", b->path);
        o->remedy = "Use the device without an area in its name.";
    }
    if (b->read_only) {
        struct mos_objection *o = object(j, MOS_RULE_WRITE_READ_ONLY, "read-only");
        o->message = mos_printf(arena, "%s is read-only.", b->path);
        o->remedy = b->bus == MOS_BUS_SD || b->bus == MOS_BUS_USB
                        ? "Set the card's switch, or use another adapter."
                        : "Use a device that can be written.";
    }
}

static void judge_size(struct judge *j) {
    const struct mos_block *b = j->b;
    struct mos_arena *arena = j->ctx->arena;
    uint64_t most = j->wish->most ? j->wish->most : MOS_MOST_MEDIUM;
    if (b->is_empty) {
        struct mos_objection *o = object(j, MOS_RULE_WRITE_TOO_SMALL, "no medium in it");
        o->message = mos_printf(arena, "%s holds no medium.", b->path);
        o->remedy = "Use a card that is plugged in; devices --wait shows when it appears.";
        return;
    }
    if (b->size < j->wish->least) {
        struct mos_objection *o = object(j, MOS_RULE_WRITE_TOO_SMALL, "too small");
        o->message =
            mos_printf(arena, "%s has %s, and %s are needed.", b->path,
                       mos_storage_size(arena, b->size), mos_storage_size(arena, j->wish->least));
        o->remedy = "Use a larger one.";
    }
    if (j->wish->sector && b->sector && b->sector != j->wish->sector) {
        struct mos_objection *o =
            object(j, MOS_RULE_WRITE_SECTOR_SIZE, "sectors of %u bytes", b->sector);
        o->message =
            mos_printf(arena, "%s has sectors of %u bytes, and the image counts in those of %u.",
                       b->path, b->sector, j->wish->sector);
        o->remedy = "Use another device, or state the medium's sector size and build again.";
    }
    if (b->size > most && !j->wish->also) {
        struct mos_objection *o =
            object(j, MOS_RULE_WRITE_TOO_LARGE, "larger than %s", mos_size_text(arena, most));
        o->message = mos_printf(arena, "%s has %s, more than the %s that %s.", b->path,
                                mos_storage_size(arena, b->size), mos_size_text(arena, most),
                                j->wish->most ? "the board's medium may have"
                                              : "cards and sticks usually have");
        o->remedy = "Use --also with its token where it is really meant, or state at-most.";
    }
    if (!mos_block_is_pluggable(b) && !j->wish->also) {
        struct mos_objection *o =
            object(j, MOS_RULE_WRITE_NOT_REMOVABLE, "not pluggable: %s", mos_bus_title(b->bus));
        o->message = mos_printf(
            arena, "%s was not plugged in: it is %s.", b->path,
            b->backing ? mos_printf(arena, "the file %s", b->backing)
                       : mos_printf(arena, "a device of kind %s", mos_bus_title(b->bus)));
        o->remedy = "Use --also with its token where it is really meant.";
    }
}

struct mos_vec mos_media_judge(struct mos_ctx *ctx, const struct mos_storage *s,
                               const struct mos_block *b, const struct mos_media_look *look,
                               const struct mos_media_wish *wish) {
    struct judge j = {.ctx = ctx,
                      .s = s,
                      .b = b,
                      .look = look,
                      .wish = wish,
                      .out = mos_vec_make(ctx->arena, sizeof(struct mos_objection))};
    judge_system(&j);
    judge_uses(&j);
    judge_kind(&j);
    judge_size(&j);
    return j.out;
}

/* ---- consent ---- */

bool mos_media_token(struct mos_arena *arena, const struct mos_block *b, const void *head,
                     size_t length, char out[MOS_TOKEN_LETTERS + 1]) {
    static const char letters[] = "ABCDEFGHJKLMNPQRSTUVWXYZ"; /* I and O look like digits */
    uint8_t hash[MOS_SHA256_SIZE];
    struct mos_buf all = {.arena = arena};
    mos_buf_printf(&all, "%s\n%s\n%s\n%s\n%s\n%llu %llu\n", b->port, b->lun, b->model, b->serial,
                   b->name, (unsigned long long)b->size, (unsigned long long)b->sequence);
    mos_buf_add(&all, head, length);
    if (!mos_sha256(all.data, all.length, hash))
        return false;
    for (size_t i = 0; i < MOS_TOKEN_LETTERS; i++)
        out[i] = letters[mos_le32(hash + 4 * i) % (sizeof letters - 1)];
    out[MOS_TOKEN_LETTERS] = 0;
    return true;
}

bool mos_media_token_is(const char *token, const char *typed) {
    for (size_t i = 0; i <= MOS_TOKEN_LETTERS; i++) {
        char c = typed[i];
        c = c >= 'a' && c <= 'z' ? (char)(c - 'a' + 'A') : c;
        if (c != token[i])
            return false;
        if (!c)
            return true;
    }
    return false;
}
