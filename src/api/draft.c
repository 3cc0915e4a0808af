/* new: a commented definition to begin with, from a few facts or from an image that boots. */
#include "api/draft_internal.h"

#include "base/bytes.h"
#include "base/out.h"
#include "base/text.h"

#include <ctype.h>
#include <stdlib.h>
#include <string.h>

/* ---- files ---- */

bool draft_put_file(struct draft *x, const char *shown, const struct mos_buf *text) {
    const char *path = mos_path_join(x->m->arena, x->folder, shown);
    if (mos_exists(&x->m->ctx, path))
        return mos_fail(&x->m->error, MOS_ERROR_SAFETY, 0, "%s is there already", path);
    mos_vec_push_pointer(&x->written, shown);
    return mos_write_file(&x->m->ctx, path, text->data, text->length);
}

/* ---- the parts of a definition ---- */

static void put_boot(struct draft *x, const char *kernel, const char *tree, const char *root) {
    const char *sign = kernel ? "" : "# ", *console = x->d->console ? ", console: <console>" : "";
    draft_line(x, "\n%sboot:%s", sign,
               kernel ? "" : "                               # with a kernel");
    draft_line(x, "%s  via: script", sign);
    draft_line(x, "%s  entries:", sign);
    draft_line(x, "%s    main:", sign);
    draft_line(x, "%s      kernel: kernel", sign);
    if (tree || !kernel)
        draft_line(x, "%s      tree: main", sign);
    draft_line(x,
               "%s      arguments: {root: <%s>%s}   # <name> stands for the partition of a region",
               sign, root, console);
    draft_line(x, "%s      flags: [rootwait, ro]", sign);
}

/* ---- from facts ---- */

/* A flash has no table: regions are what everybody who reads it was told. */
static void put_flash(struct draft *x, const char *kernel, const char *tree, const char *root) {
    const char *sign = kernel ? "" : "# ", *console = x->d->console ? "console: <console>" : "";
    draft_line(x, "\n%sboot:%s", sign,
               kernel ? "" : "                               # with a kernel");
    draft_line(x, "%s  via: environment          # the loader's variables name the places", sign);
    draft_line(x, "%s  entries:", sign);
    draft_line(x, "%s    main: {kernel: kernel, %sarguments: {%s}}", sign,
               tree || !kernel ? "tree: main, " : "", console);
    draft_line(x, "\nlayout:");
    draft_line(x, "  flash:");
    draft_line(x, "    regions:");
    draft_line(x, "      # loader: {at: 0 B, size: 960 KiB, piece: loader}");
    draft_line(x, "      # env: {at: 1 MiB, size: 64 KiB, environment: main, owner: device}");
    if (tree)
        draft_line(x, "      tree: {at: 1088 KiB, size: 64 KiB, tree: main}");
    draft_line(x, "      %s: {at: 2 MiB, size: rest%s}   # %s", kernel ? "kernel" : "all",
               kernel ? ", piece: kernel" : "",
               kernel ? "as large as it must be" : "one region for each thing");
    draft_unknown(x, "first-stage", "rom",
                  "what the chip's ROM reads of the flash, and where (rom: first-stage)");
    if (!root)
        draft_unknown(x, "root", "pieces.rootfs", "where the root is (pieces: rootfs)");
}

static void from_facts(struct draft *x) {
    const struct mosaicum_draft *d = x->d;
    const char *kind = d->medium ? d->medium : "sd", *size = d->size ? d->size : "1 GiB";
    const char *kernel = draft_adopt(x, d->kernel, "pieces"),
               *root = draft_adopt(x, d->root, "pieces");
    const char *tree = draft_adopt(x, d->tree, "tree");
    const struct mos_dialect *dialect = mos_dialect_at(0);
    const char *loader = mos_dialect_medium(dialect, x->m->arena, kind);
    bool flash = strcmp(draft_medium(kind), "flash") == 0;
    if (x->m->error.kind)
        return;
    draft_put_hardware(
        x, mos_printf(x->m->arena,
                      "    %s: {kind: %s, size: %s%s, loader: %s, kernel: %s}   # its name "
                      "in each world\n",
                      draft_medium(kind), draft_quoted(x, kind), draft_quoted(x, size),
                      flash ? ", erase: 64 KiB" : "", loader,
                      mos_dialect_kernel_name(dialect, x->m->arena, loader)));
    draft_put_pieces(x, kernel, root, tree, NULL, NULL);
    draft_put_loader(x);
    if (flash) {
        put_flash(x, kernel, tree, root);
        return;
    }
    put_boot(x, kernel, tree, "root");
    draft_line(x, "\nlayout:");
    draft_line(x, "  card:");
    draft_line(x, "    table: {kind: gpt}");
    draft_line(x, "    regions:");
    draft_line(
        x,
        "      # loader: {at: 512 KiB, size: 1 MiB, piece: loader}   # a raw place, in no table");
    draft_line(x, "      boot: {number: 1, size: 64 MiB, volume: {kind: fat32, label: BOOT%s}}",
               kernel ? ", fills: {boot: {made: boot}}" : "");
    draft_line(x, "      root: {number: 2, size: rest, volume: {kind: ext4, label: root%s}}",
               root ? ", fills: {base: {archive: rootfs}}" : "");
    draft_unknown(x, "raw-places", "rom",
                  "whether the chip's ROM or the loader needs a raw place on the card");
    if (!root)
        draft_unknown(x, "root", "pieces.rootfs",
                      "the content of the root partition (pieces: rootfs)");
}

/* ---- the files ---- */

static bool put_workspace(struct draft *x) {
    const char *path = mos_path_join(x->m->arena, x->folder, "mosaicum.yaml");
    struct mos_buf text = {.arena = x->m->arena};
    char *real;
    if (mos_exists(&x->m->ctx, path))
        return true;
    const char *name = x->d->name;
    if (!x->m->ctx.host->real_path(x->m->ctx.host, x->folder, &real)) {
        const char *slash = strrchr(real, '/');
        char *own = mos_strdup(x->m->arena, slash && slash[1] ? slash + 1 : x->d->name);
        for (char *p = own; *p; p++)
            if (!isalnum((unsigned char)*p))
                *p = '-';
        name = isalnum((unsigned char)own[0]) && strlen(own) < 64 ? own : name;
        free(real);
    }
    mos_buf_printf(
        &text,
        "mosaicum: 1\nworkspace: %s   # seeds all identifiers that are derived; keep it\n"
        "date: 2026-01-01         # of everything that is made\n",
        name);
    return draft_put_file(x, "mosaicum.yaml", &text);
}

static void report(struct draft *x) {
    static const struct mosaicum_column files[] = {{"file", "", false}};
    static const struct mosaicum_column facts[] = {{"unknown", "", false}};
    struct report_table t = report_start(&x->m->report, "written", "Written", files, 1);
    for (size_t i = 0; i < x->written.count; i++)
        cell_text(&t, mos_path_join(x->m->arena, x->folder, mos_vec_pointer(&x->written, i)));
    report_end(&x->m->report, &t);
    t = report_start(&x->m->report, "unknown",
                     "What could not be known; each has its place in the file", facts, 1);
    for (size_t i = 0; i < x->unknown.count; i++)
        cell_text(&t, ((const struct draft_unknown *)mos_vec_at(&x->unknown, i))->text);
    report_end(&x->m->report, &t);
}

/* What is not known stays an open question of the definition. */
static void put_questions(struct draft *x) {
    if (x->unknown.count)
        draft_line(
            x, "\nquestions:                            # not known yet; check counts each until "
               "it is answered, or its line is gone");
    for (size_t i = 0; i < x->unknown.count; i++) {
        const struct draft_unknown *u = mos_vec_at(&x->unknown, i);
        draft_line(x, "  %s: {ask: %s%s%s}", u->name, draft_quoted(x, u->text),
                   u->answer ? ", answer: " : "", u->answer ? u->answer : "");
    }
}

bool draft_begin(struct draft *x, mosaicum *m, const struct mosaicum_draft *d, const char *folder) {
    *x = (struct draft){.m = m,
                        .d = d,
                        .text = {.arena = m->arena},
                        .unknown = mos_vec_make(m->arena, sizeof(struct draft_unknown)),
                        .adopted = mos_map_make(m->arena),
                        .folder = folder,
                        .shown = mos_printf(m->arena, "boards/%s.yaml", d->name),
                        .written = mos_vec_make(m->arena, sizeof(char *))};
    if (!mos_is_name(d->name))
        return mos_fail(&m->error, MOS_ERROR_USAGE, 0,
                        "%s is not a name for a board: letters, digits, - and _, at most 64",
                        d->name);
    const char *path = mos_path_join(m->arena, folder, x->shown);
    if (mos_exists(&m->ctx, path))
        return mos_fail(&m->error, MOS_ERROR_SAFETY, 0,
                        "%s is there already; nothing is written over it", path);
    draft_line(x, "mosaicum: 1");
    draft_line(x, "board: %s", d->name);
    return true;
}

bool draft_finish(struct draft *x) {
    put_questions(x);
    if (x->m->error.kind || !put_workspace(x) || !draft_put_file(x, x->shown, &x->text))
        return false;
    report(x);
    return true;
}

static void draft(mosaicum *m, const struct mosaicum_draft *d) {
    struct draft x;
    if (!draft_begin(&x, m, d, m->options.workspace))
        return;
    int e = m->ctx.host->make_folder(m->ctx.host, x.folder);
    if (e) {
        mos_fail(&m->error, MOS_ERROR_SYSTEM, e, "Cannot make %s", x.folder);
        return;
    }
    draft_line(&x, "# about: what it is, in a few words\n");
    if (d->from)
        draft_from_image(&x);
    else
        from_facts(&x);
    draft_finish(&x);
}

enum mosaicum_status mosaicum_new_board(mosaicum *m, const struct mosaicum_draft *d) {
    if (setjmp(m->out_of_memory))
        return run_no_memory(m);
    const char *const named[] = {d->kernel, d->tree, d->root, d->from};
    for (size_t i = 0; i < sizeof named / sizeof *named; i++)
        run_allow(m, named[i], MOS_REACH_READ);
    run_allow(m, m->options.workspace, MOS_REACH_READ | MOS_REACH_WRITE);
    draft(m, d);
    return run_status(m);
}
