/* The parts of a draft that all its sources share: lines, files that become pieces, hardware. */
#include "api/draft_internal.h"

#include "base/bytes.h"
#include "base/out.h"
#include "base/text.h"

#include <stdarg.h>
#include <stdlib.h>
#include <string.h>

void draft_unknown(struct draft *x, const char *name, const char *answer, const char *text) {
    const char *own = name;
    for (size_t i = 0, n = 2; i < x->unknown.count; i++)
        if (strcmp(((struct draft_unknown *)mos_vec_at(&x->unknown, i))->name, own) == 0) {
            own = mos_printf(x->m->arena, "%s-%zu", name, n++);
            i = (size_t)-1; /* from the start again */
        }
    *(struct draft_unknown *)mos_vec_push(&x->unknown) = (struct draft_unknown){own, text, answer};
}

void draft_line(struct draft *x, const char *format, ...) {
    va_list arguments;
    va_start(arguments, format);
    mos_buf_text(&x->text, mos_vprintf(x->m->arena, format, arguments));
    mos_buf_char(&x->text, '\n');
    va_end(arguments);
}

const char *draft_quoted(struct draft *x, const char *text) {
    struct mos_buf b = {.arena = x->m->arena};
    mos_yaml_scalar(&b, text);
    return mos_buf_string(&b);
}

const char *draft_harmless(struct draft *x, const char *text) {
    struct mos_buf b = {.arena = x->m->arena};
    mos_yaml_comment(&b, text);
    return mos_buf_string(&b);
}

/* ---- files ---- */

static bool copy_bytes(mosaicum *m, int from, struct mos_out *to) {
    enum { PART = 1 << 20 };
    const struct mos_host *h = m->ctx.host;
    uint8_t *buffer = mos_alloc(m->arena, PART);
    uint64_t at = 0;
    int e = 0;
    for (size_t got = 1; got && !e; at += got) {
        e = h->pread(h, from, buffer, PART, at, &got);
        e = e || !got ? e : mos_out_write(to, buffer, got, at);
    }
    if (!e)
        return mos_out_commit(to, at, true);
    mos_out_abandon(to);
    return mos_fail(&m->error, MOS_ERROR_SYSTEM, e, "Cannot write %s", to->path);
}

static bool same_file(mosaicum *m, const char *a, const char *b) {
    struct mos_file_info x, y;
    return m->ctx.host->info(m->ctx.host, a, true, &x) == 0 &&
           m->ctx.host->info(m->ctx.host, b, true, &y) == 0 && x.inode == y.inode &&
           x.device == y.device;
}

/* A path below the workspace that nothing has yet, or that has just this file. */
static const char *free_path(struct draft *x, const char *into, const char *path) {
    mosaicum *m = x->m;
    const char *slash = strrchr(path, '/'), *dot;
    const char *name = mos_file_name(m->arena, slash ? slash + 1 : path);
    const char *shown = mos_printf(m->arena, "%s/%s", into, name);
    for (unsigned n = 2;; n++) {
        const char *from = mos_map_get(&x->adopted, shown);
        const char *there = mos_path_join(m->arena, x->folder, shown);
        if (from ? same_file(m, from, path)
                 : !mos_exists(&m->ctx, there) || same_file(m, there, path))
            return shown;
        dot = strchr(name + 1, '.');
        size_t stem = dot ? (size_t)(dot - name) : strlen(name);
        shown = mos_printf(m->arena, "%s/%.*s-%u%s", into, (int)stem, name, n, name + stem);
    }
}

const char *draft_adopt(struct draft *x, const char *path, const char *into) {
    mosaicum *m = x->m;
    const struct mos_host *h = m->ctx.host;
    struct mos_file_info info;
    struct mos_out out;
    int in;
    if (!path || m->error.kind)
        return NULL;
    int e = h->info(h, path, true, &info);
    if (e || info.kind != MOS_FILE_REGULAR) {
        mos_fail(&m->error, MOS_ERROR_USAGE, e, "%s is no file", path);
        return NULL;
    }
    if (path[0] != '/' && !strstr(path, "..") && strcmp(x->folder, ".") == 0)
        return path;
    const char *shown = free_path(x, into, path);
    const char *to = mos_path_join(m->arena, x->folder, shown);
    bool there = mos_map_get(&x->adopted, shown) || same_file(m, to, path);
    mos_map_set_const(&x->adopted, shown, path);
    if (there)
        return shown;
    e = h->make_folder(h, mos_path_folder(m->arena, to));
    e = e ? e : h->open(h, path, MOS_OPEN_READ, &in);
    if (e) {
        mos_fail(&m->error, MOS_ERROR_SYSTEM, e, "Cannot copy %s to %s", path, to);
        return NULL;
    }
    if (mos_out_open(&out, &m->ctx, to, true) && copy_bytes(m, in, &out))
        mos_vec_push_pointer(&x->written, shown);
    h->close(h, in);
    return m->error.kind ? NULL : shown;
}

/* ---- the parts of a definition ---- */

/* "ttyS0,115200" is the port and its speed, as kernels are told. */
static void put_console(struct draft *x, const struct mosaicum_draft *d, const char *console) {
    size_t n = strcspn(console, ",");
    const char *digits = console + n + (console[n] == ',');
    size_t k = strspn(digits, "0123456789");
    bool both = k && (!digits[k] || strcmp(digits + k, "n8") == 0);
    const char *port = both ? mos_strndup(x->m->arena, console, n) : console;
    const char *baud = d->baud ? d->baud : both ? mos_strndup(x->m->arena, digits, k) : "115200";
    draft_line(x, "  console: {port: %s, baud: %s}", draft_quoted(x, port), draft_quoted(x, baud));
}

const char *draft_medium(const char *kind) {
    return strcmp(kind, "nor") == 0 || strcmp(kind, "nand") == 0 ? "flash" : "card";
}

void draft_put_hardware(struct draft *x, const char *media) {
    const struct mosaicum_draft *d = x->d;
    const char *cpu = d->cpu ? d->cpu : x->cpu, *console = d->console ? d->console : x->console;
    draft_line(x, "hardware:");
    if (cpu)
        draft_line(x, "  cpu: %s", draft_quoted(x, cpu));
    else
        draft_line(x, "  # cpu: arm64                       # arm64, arm, riscv64 or x86-64");
    if (d->ram_start && d->ram_size)
        draft_line(
            x,
            "  ram: {main: {start: %s, sizes: [%s]}%s}   # every fitted size; the smallest counts",
            draft_quoted(x, d->ram_start), draft_quoted(x, d->ram_size),
            x->more_ram ? x->more_ram : "");
    else
        draft_line(x,
                   "  # ram: {main: {start: 0x40000000, sizes: [512 MiB]}}   # every fitted size");
    draft_line(x, "  %sheld: {loader: {top: %s}}      # RAM that belongs to somebody else",
               x->held ? "" : "# ", x->held ? x->held : "40 MiB");
    if (console)
        put_console(x, d, console);
    else
        draft_line(x, "  # console: {port: ttyAMA0, baud: 115200}");
    draft_line(x, "  media:");
    mos_buf_text(&x->text, media);
    if (!cpu)
        draft_unknown(x, "processor", "hardware.cpu", "the processor (hardware: cpu)");
    if (!d->ram_start || !d->ram_size)
        draft_unknown(x, "ram", "hardware.ram", "where RAM is and how much of it (hardware: ram)");
    if (!console)
        draft_unknown(x, "console", "hardware.console", "the serial console (hardware: console)");
}

void draft_put_pieces(struct draft *x, const char *kernel, const char *root, const char *tree,
                      const struct mos_vec *taken, const struct draft_boot *boot) {
    bool any = kernel || root;
    const struct draft_part *own = NULL; /* the image's own tree */
    bool has_kernel = kernel != NULL;
    for (size_t i = 0; boot && i < boot->parts.count; i++) {
        const struct draft_part *p = mos_vec_pointer(&boot->parts, i);
        own = !own && strcmp(p->role, "tree") == 0 ? p : own;
        has_kernel |= strcmp(p->role, "kernel") == 0;
    }
    for (size_t i = 0; taken && i < taken->count; i++)
        any |= ((struct draft_taken *)mos_vec_at(taken, i))->file != NULL;
    if (any) {
        draft_line(
            x, "\npieces:                               # files from outside; mosaicum pin records "
               "their hashes");
        if (kernel)
            draft_line(x, "  kernel: {file: %s}", draft_quoted(x, kernel));
        if (root)
            draft_line(x, "  rootfs: {file: %s}", draft_quoted(x, root));
        for (size_t i = 0; taken && i < taken->count; i++) {
            const struct draft_taken *t = mos_vec_at(taken, i);
            if (t->file)
                draft_line(x, "  image-%s: {file: %s}", t->name, draft_quoted(x, t->file));
        }
        for (size_t i = 0; boot && i < boot->parts.count; i++) {
            const struct draft_part *p = mos_vec_pointer(&boot->parts, i);
            if (!kernel || strcmp(p->name, "kernel") != 0) /* one that was named comes first */
                draft_line(x, "  %s: {in: %s, path: %s}", p->name, p->in, draft_quoted(x, p->path));
        }
    } else {
        draft_line(
            x,
            "\n# pieces:                             # files from outside, below this workspace");
        draft_line(x, "#   kernel: {file: pieces/Image}");
        draft_line(x, "#   rootfs: {file: pieces/rootfs.tar.zst}");
    }
    if (tree) {
        draft_line(x, "\ntree:");
        draft_line(x,
                   "  blobs: {main: {base: %s}}            # overlays: {name: {file: overlays/…}}",
                   draft_quoted(x, tree));
    } else if (own) {
        draft_line(x, "\ntree:\n  blobs:");
        for (size_t i = 0; i < boot->parts.count; i++) {
            const struct draft_part *p = mos_vec_pointer(&boot->parts, i);
            if (strcmp(p->role, "tree") == 0)
                draft_line(x, "    %s: {piece: %s}", p->name, p->name);
        }
    } else {
        draft_line(x, "\n# tree:\n#   blobs: {main: {base: tree/%s.dts}}", x->d->name);
    }
    if (!has_kernel)
        draft_unknown(x, "kernel", "pieces.kernel", "the kernel (pieces: kernel)");
    if (!tree && !own && !(boot && boot->entries.count))
        draft_unknown(x, "tree", "tree.blobs", "the device tree (tree: blobs)");
}

void draft_put_loader(struct draft *x) {
    draft_line(x, "\nloader:");
    draft_line(x, "  dialect: %s", mos_dialect_at(0)->name);
    draft_line(
        x,
        "  # facts: {defaults: loader/defaults.txt, config: loader/loader.config}   # how it was "
        "built");
}
