#include "rules/rules.h"

#include "base/bytes.h"
#include "base/text.h"
#include "linux/program.h"

#include <string.h>

struct piece_view {
    const struct mos_plan *plan;
    const struct mos_piece_plan *p;
    struct mos_findings *list;
};

/* ---- pins and licenses ---- */

static bool is_unpinned(const struct mos_plan *plan, const struct mos_piece_plan *p) {
    const struct mos_piece *d = p->def;
    bool follows = mos_true(d->follow);
    return p->found && !p->made && !d->in && !d->made_by && !d->sha256 && !p->pin &&
           !(follows && !plan->board->field);
}

/* A workspace that pins nothing has not begun to; only what leaves the house must be pinned.  One
 * finding for all: one command solves it. */
static void check_pins(const struct mos_plan *plan) {
    struct mos_findings *list = &plan->ctx->findings;
    struct mos_buf names = {.arena = plan->ctx->arena};
    struct mos_vec found = mos_vec_make(plan->ctx->arena, sizeof(void *));
    for (size_t i = 0; i < plan->pieces.count; i++)
        if (is_unpinned(plan, mos_vec_pointer(&plan->pieces, i)))
            mos_vec_push_pointer(&found, mos_vec_pointer(&plan->pieces, i));
    if (!found.count || (!plan->board->pins && !plan->board->field))
        return;
    for (size_t i = 0; i < found.count; i++)
        mos_buf_printf(&names, "%s%s",
                       !i                     ? ""
                       : i + 1 == found.count ? " and "
                                              : ", ",
                       ((struct mos_piece_plan *)mos_vec_pointer(&found, i))->def->r.name);
    struct mos_finding *f =
        mos_find(list, MOS_RULE_PIECE_UNPINNED,
                 found.count == 1 ? "Piece %s is not pinned." : "Pieces %s are not pinned.",
                 mos_buf_string(&names));
    for (size_t i = 0; i < found.count && i < 4; i++)
        mos_finding_at(list, f,
                       ((struct mos_piece_plan *)mos_vec_pointer(&found, i))->def->r.key_place);
    if (mos_has(plan->board->purpose))
        mos_finding_at(list, f, plan->board->purpose->place);
    mos_finding_why(list, f, "Another file in its place would go unnoticed.");
    mos_finding_try(list, f, "Run mosaicum pin.");
}

/* They are asked for where somebody has begun to state them, and of what leaves the house. */
static bool wants_licenses(const struct mos_plan *plan) {
    bool begun = plan->board->field;
    for (size_t i = 0; i < plan->pieces.count && !begun; i++)
        begun = ((struct mos_piece_plan *)mos_vec_pointer(&plan->pieces, i))->def->license != NULL;
    return begun;
}

static void check_license(const struct piece_view *v) {
    const struct mos_piece *d = v->p->def;
    if (d->in || v->p->made || d->license || d->r.broken)
        return;
    struct mos_finding *f =
        mos_find(v->list, MOS_RULE_PIECE_LICENSE, "Piece %s states no license.", d->r.name);
    mos_finding_at(v->list, f, d->r.key_place);
    mos_finding_why(v->list, f, "Whoever gets the board has a right to know what is on it.");
    mos_finding_try(v->list, f,
                    "Add license: with an SPDX identifier, such as GPL-2.0-only or MIT.");
}

/* ---- exports ---- */

/* What another program made must be as new as what it was made from. */
static void check_source(const struct piece_view *v) {
    const struct mos_piece_plan *p = v->p;
    const struct mos_value *pinned = p->pin ? p->pin->source : NULL;
    if (!p->source)
        return;
    if (!mos_has(pinned)) {
        mos_vec_push_pointer(&v->plan->ctx->not_proved,
                             mos_printf(v->plan->ctx->arena,
                                        "that piece %s is as new as %s: mosaicum pin records both",
                                        p->def->r.name, p->def->derived_from->text));
        return;
    }
    if (strcmp(pinned->text, p->source) == 0)
        return;
    struct mos_finding *f = mos_find(v->list, MOS_RULE_PIECE_OUTDATED, "Piece %s is older than %s.",
                                     p->def->r.name, p->def->derived_from->text);
    mos_finding_at(v->list, f, p->def->derived_from->place);
    mos_finding_at(v->list, f, pinned->place);
    mos_finding_try(v->list, f, "Export %s again, then run mosaicum pin.", p->file);
}

/* ---- formats ---- */

static const struct {
    const char *suffix, *name, *magic;
    size_t length, at;
} formats[] = {
    {".gz", "gzip", "\x1f\x8b", 2, 0},
    {".tgz", "gzip", "\x1f\x8b", 2, 0},
    {".zst", "zstd", "\x28\xb5\x2f\xfd", 4, 0},
    {".xz", "xz",
     "\xfd"
     "7zXZ",
     5, 0},
    {".bz2", "bzip2", "BZh", 3, 0},
    {".tar", "tar", "ustar", 5, 257},
    {".zip", "zip", "PK", 2, 0},
    {".cpio", "cpio", "0707", 4, 0},
    {".dtb", "device-tree blob", "\xd0\x0d\xfe\xed", 4, 0},
};
enum { FORMATS = sizeof formats / sizeof *formats };

static bool has_magic(const struct mos_piece_plan *p, size_t format) {
    return formats[format].at + formats[format].length <= p->head_length &&
           memcmp(p->head + formats[format].at, formats[format].magic, formats[format].length) == 0;
}

static const char *what_it_is(const struct mos_piece_plan *p) {
    struct mos_kernel_header header;
    for (size_t i = 0; i < FORMATS; i++)
        if (has_magic(p, i))
            return formats[i].name;
    if (mos_kernel_read(p->head, p->head_length, p->size, &header))
        return header.format;
    for (size_t i = 0; i < p->head_length; i++)
        if (p->head[i] < 9 || p->head[i] == 127)
            return "something else";
    return p->size ? "a text" : "empty";
}

static void check_format(const struct piece_view *v) {
    const char *name = v->p->member ? v->p->member : v->p->file;
    size_t n = strlen(name);
    for (size_t i = 0; i < FORMATS; i++) {
        size_t k = strlen(formats[i].suffix);
        if (n <= k || strcmp(name + n - k, formats[i].suffix) != 0 || has_magic(v->p, i))
            continue;
        struct mos_finding *f =
            mos_find(v->list, MOS_RULE_PIECE_FORMAT, "Piece %s is called %s, but is %s.",
                     v->p->def->r.name, formats[i].suffix, what_it_is(v->p));
        mos_finding_at(v->list, f,
                       v->p->member      ? v->p->def->path->place
                       : v->p->def->file ? v->p->def->file->place
                                         : v->p->def->r.key_place);
        mos_finding_why(v->list, f,
                        "A download that was cut off, or an error page in the place of a file, "
                        "looks like this.");
        mos_finding_try(v->list, f, "Fetch it again, or name the file after what it is.");
        return;
    }
}

/* ---- architectures ---- */

/* ELF: e_ident[EI_DATA] at 5, e_machine at 18 (System V ABI, ELF header). */
static const char *elf_cpu(const struct mos_piece_plan *p) {
    static const struct {
        unsigned machine;
        const char *cpu;
    } rows[] = {{183, "arm64"}, {40, "arm"}, {243, "riscv64"}, {62, "x86-64"}, {3, "x86"}};
    if (p->head_length < 20 || memcmp(p->head, "\177ELF", 4) != 0 || p->head[5] != 1)
        return NULL;
    unsigned machine = mos_le16(p->head + 18);
    for (size_t i = 0; i < sizeof rows / sizeof *rows; i++)
        if (rows[i].machine == machine)
            return rows[i].cpu;
    return "another processor";
}

static bool is_booted(const struct piece_view *v) {
    for (size_t i = 0; i < v->plan->entries.count; i++)
        if (((struct mos_entry_plan *)mos_vec_pointer(&v->plan->entries, i))->kernel == v->p)
            return true;
    return false;
}

static void check_architecture(const struct piece_view *v) {
    const struct mos_hardware *h = v->plan->board->hardware;
    const struct mos_value *stated = v->p->def->cpu, *board = h ? h->cpu : NULL;
    struct mos_kernel_header header;
    const char *is = elf_cpu(v->p);
    struct mos_finding *f = NULL;
    if (!is && mos_kernel_read(v->p->head, v->p->head_length, v->p->size, &header) && header.form)
        is = header.cpu;
    if (mos_has(stated) && is && !mos_start_fits(stated->text, is)) {
        f = mos_find(v->list, MOS_RULE_PIECE_ARCHITECTURE,
                     "Piece %s is stated to be for %s, but is made for %s.", v->p->def->r.name,
                     stated->text, is);
        mos_finding_at(v->list, f, stated->place);
    } else if (mos_has(board) && (mos_has(stated) || is) && !is_booted(v) &&
               !mos_start_fits(board->text, mos_has(stated) ? stated->text : is)) {
        f = mos_find(v->list, MOS_RULE_PIECE_ARCHITECTURE,
                     "Piece %s is made for %s, the board is %s.", v->p->def->r.name,
                     mos_has(stated) ? stated->text : is, board->text);
        mos_finding_at(v->list, f, mos_has(stated) ? stated->place : v->p->def->r.key_place);
        mos_finding_at(v->list, f, board->place);
    }
    if (f)
        mos_finding_try(v->list, f, "Use the same piece built for %s.",
                        mos_has(board) ? board->text : stated->text);
}

void mos_rule_piece(const struct mos_plan *plan) {
    bool licenses = wants_licenses(plan);
    check_pins(plan);
    for (size_t i = 0; i < plan->pieces.count; i++) {
        struct piece_view v = {plan, mos_vec_pointer(&plan->pieces, i), &plan->ctx->findings};
        if (licenses)
            check_license(&v);
        if (!v.p->found || v.p->def->r.broken)
            continue;
        check_source(&v);
        check_format(&v);
        check_architecture(&v);
    }
}
