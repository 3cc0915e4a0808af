/* new: a commented definition to begin with, from a few facts or from an image that boots. */
#include "api/survey.h"

#include "base/bytes.h"
#include "base/out.h"
#include "base/text.h"

#include <ctype.h>
#include <stdlib.h>
#include <string.h>

struct unknown {
    const char *name, *text, *answer; /* answer: the key that would tell; or NULL */
};

struct draft {
    mosaicum *m;
    const struct mosaicum_draft *d;
    struct mos_buf text;
    struct mos_vec unknown; /* of struct unknown: what could not be known */
    struct mos_map adopted; /* path in the workspace -> the file that it was copied from */
    const char *folder;     /* of the workspace */
    struct mos_vec written; /* of const char * */
};

/* What came out of an image, one for each of its spans. */
struct taken {
    const char *name; /* of the region */
    const char *file; /* below the workspace; NULL: it holds nothing, or is not a region */
    bool skipped;     /* an extended partition: made again around the logical ones */
};

static void unknown(struct draft *x, const char *name, const char *answer, const char *text) {
    const char *own = name;
    for (size_t i = 0, n = 2; i < x->unknown.count; i++)
        if (strcmp(((struct unknown *)mos_vec_at(&x->unknown, i))->name, own) == 0) {
            own = mos_printf(x->m->arena, "%s-%zu", name, n++);
            i = (size_t)-1; /* from the start again */
        }
    *(struct unknown *)mos_vec_push(&x->unknown) = (struct unknown){own, text, answer};
}

static void line(struct draft *x, const char *format, ...) __attribute__((format(printf, 2, 3)));
static void line(struct draft *x, const char *format, ...) {
    va_list arguments;
    va_start(arguments, format);
    mos_buf_text(&x->text, mos_vprintf(x->m->arena, format, arguments));
    mos_buf_char(&x->text, '\n');
    va_end(arguments);
}

/* A text as YAML; quoted where it must be. */
static const char *quoted(struct draft *x, const char *text) {
    struct mos_buf b = {.arena = x->m->arena};
    mos_yaml_scalar(&b, text);
    return mos_buf_string(&b);
}

/* A text that an image holds, for a comment. */
static const char *harmless(struct draft *x, const char *text) {
    struct mos_buf b = {.arena = x->m->arena};
    mos_yaml_comment(&b, text);
    return mos_buf_string(&b);
}

/* ---- files ---- */

static bool put(struct draft *x, const char *shown, const struct mos_buf *text) {
    const char *path = mos_path_join(x->m->arena, x->folder, shown);
    if (mos_exists(&x->m->ctx, path))
        return mos_fail(&x->m->error, MOS_ERROR_SAFETY, 0, "%s is there already", path);
    mos_vec_push_pointer(&x->written, shown);
    return mos_write_file(&x->m->ctx, path, text->data, text->length);
}

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

/* A file that was named becomes one of the workspace: its path there.  One that lies inside is
 * used where it is, others are copied to pieces/ (trees to tree/) under a name of their own. */
static const char *adopt(struct draft *x, const char *path, const char *into) {
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
static void put_console(struct draft *x, const struct mosaicum_draft *d) {
    size_t n = strcspn(d->console, ",");
    const char *digits = d->console + n + (d->console[n] == ',');
    size_t k = strspn(digits, "0123456789");
    bool both = k && (!digits[k] || strcmp(digits + k, "n8") == 0);
    const char *port = both ? mos_strndup(x->m->arena, d->console, n) : d->console;
    const char *baud = d->baud ? d->baud : both ? mos_strndup(x->m->arena, digits, k) : "115200";
    line(x, "  console: {port: %s, baud: %s}", quoted(x, port), quoted(x, baud));
}

static void put_hardware(struct draft *x, const char *media) {
    const struct mosaicum_draft *d = x->d;
    line(x, "hardware:");
    if (d->cpu)
        line(x, "  cpu: %s", quoted(x, d->cpu));
    else
        line(x, "  # cpu: arm64                       # arm64, arm or riscv64");
    if (d->ram_start && d->ram_size)
        line(x,
             "  ram: {main: {start: %s, sizes: [%s]}}   # every fitted size; the smallest counts",
             quoted(x, d->ram_start), quoted(x, d->ram_size));
    else
        line(x, "  # ram: {main: {start: 0x40000000, sizes: [512 MiB]}}   # every fitted size");
    line(x, "  # held: {loader: {top: 40 MiB}}      # RAM that belongs to somebody else");
    if (d->console)
        put_console(x, d);
    else
        line(x, "  # console: {port: ttyAMA0, baud: 115200}");
    line(x, "  media:");
    mos_buf_text(&x->text, media);
    if (!d->cpu)
        unknown(x, "processor", "hardware.cpu", "the processor (hardware: cpu)");
    if (!d->ram_start || !d->ram_size)
        unknown(x, "ram", "hardware.ram", "where RAM is and how much of it (hardware: ram)");
    if (!d->console)
        unknown(x, "console", "hardware.console", "the serial console (hardware: console)");
}

/* taken: pieces that came out of an image, of struct taken. */
static void put_pieces(struct draft *x, const char *kernel, const char *root, const char *tree,
                       const struct mos_vec *taken) {
    bool any = kernel || root;
    for (size_t i = 0; taken && i < taken->count; i++)
        any |= ((struct taken *)mos_vec_at(taken, i))->file != NULL;
    if (any) {
        line(x,
             "\npieces:                               # files from outside; mosaicum pin records "
             "their hashes");
        if (kernel)
            line(x, "  kernel: {file: %s}", quoted(x, kernel));
        if (root)
            line(x, "  rootfs: {file: %s}", quoted(x, root));
        for (size_t i = 0; taken && i < taken->count; i++) {
            const struct taken *t = mos_vec_at(taken, i);
            if (t->file)
                line(x, "  image-%s: {file: %s}", t->name, quoted(x, t->file));
        }
    } else {
        line(x,
             "\n# pieces:                             # files from outside, below this workspace");
        line(x, "#   kernel: {file: pieces/Image}");
        line(x, "#   rootfs: {file: pieces/rootfs.tar.zst}");
    }
    if (tree) {
        line(x, "\ntree:");
        line(x, "  blobs: {main: {base: %s}}            # overlays: {name: {file: overlays/…}}",
             quoted(x, tree));
    } else {
        line(x, "\n# tree:\n#   blobs: {main: {base: tree/%s.dts}}", x->d->name);
    }
    if (!kernel)
        unknown(x, "kernel", "pieces.kernel", "the kernel (pieces: kernel)");
    if (!tree)
        unknown(x, "tree", "tree.blobs", "the device tree (tree: blobs)");
}

static void put_boot(struct draft *x, const char *kernel, const char *tree, const char *root) {
    const char *sign = kernel ? "" : "# ", *console = x->d->console ? ", console: <console>" : "";
    line(x, "\n%sboot:%s", sign, kernel ? "" : "                               # with a kernel");
    line(x, "%s  via: script", sign);
    line(x, "%s  entries:", sign);
    line(x, "%s    main:", sign);
    line(x, "%s      kernel: kernel", sign);
    if (tree || !kernel)
        line(x, "%s      tree: main", sign);
    line(x, "%s      arguments: {root: <%s>%s}   # <name> stands for the partition of a region",
         sign, root, console);
    line(x, "%s      flags: [rootwait, ro]", sign);
}

static void put_loader(struct draft *x) {
    line(x, "\nloader:");
    line(x, "  dialect: %s", mos_dialect_at(0)->name);
    line(x,
         "  # facts: {defaults: loader/defaults.txt, config: loader/loader.config}   # how it was "
         "built");
}

/* ---- from facts ---- */

static void from_facts(struct draft *x) {
    const struct mosaicum_draft *d = x->d;
    const char *kind = d->medium ? d->medium : "sd", *size = d->size ? d->size : "1 GiB";
    const char *kernel = adopt(x, d->kernel, "pieces"), *root = adopt(x, d->root, "pieces");
    const char *tree = adopt(x, d->tree, "tree");
    const struct mos_dialect *dialect = mos_dialect_at(0);
    const char *loader = mos_dialect_medium(dialect, x->m->arena, kind);
    if (x->m->error.kind)
        return;
    put_hardware(x,
                 mos_printf(x->m->arena,
                            "    card: {kind: %s, size: %s, loader: %s, kernel: %s}   # its name "
                            "in each world\n",
                            quoted(x, kind), quoted(x, size), loader,
                            mos_dialect_kernel_name(dialect, x->m->arena, loader)));
    put_pieces(x, kernel, root, tree, NULL);
    put_loader(x);
    put_boot(x, kernel, tree, "root");
    line(x, "\nlayout:");
    line(x, "  card:");
    line(x, "    table: {kind: gpt}");
    line(x, "    regions:");
    line(x,
         "      # loader: {at: 512 KiB, size: 1 MiB, piece: loader}   # a raw place, in no table");
    line(x, "      boot: {number: 1, size: 64 MiB, volume: {kind: fat32, label: BOOT%s}}",
         kernel ? ", fills: {boot: {made: boot}}" : "");
    line(x, "      root: {number: 2, size: rest, volume: {kind: ext4, label: root%s}}",
         root ? ", fills: {base: {archive: rootfs}}" : "");
    unknown(x, "raw-places", "rom",
            "whether the chip's ROM or the loader needs a raw place on the card");
    if (!root)
        unknown(x, "root", "pieces.rootfs", "the content of the root partition (pieces: rootfs)");
}

/* ---- from an image ---- */

static bool name_taken(const struct mos_vec *names, const char *name) {
    for (size_t i = 0; i < names->count; i++)
        if (strcmp(mos_vec_pointer(names, i), name) == 0)
            return true;
    return false;
}

/* A name for a region, from what the image calls it. */
static const char *region_name(struct draft *x, const struct survey_span *s,
                               struct mos_vec *names) {
    const char *from = s->partition && *s->partition->name                    ? s->partition->name
                       : s->has_volume && s->volume.label && *s->volume.label ? s->volume.label
                       : s->environment_size                                  ? "env"
                       : s->partition                                         ? "part"
                                                                              : "raw";
    struct mos_buf b = {.arena = x->m->arena};
    for (const char *p = from; *p && b.length < 40; p++)
        mos_buf_char(&b, isalnum((unsigned char)*p) ? (char)tolower((unsigned char)*p) : '-');
    const char *base = isalnum((unsigned char)mos_buf_string(&b)[0]) ? mos_buf_string(&b) : "part";
    const char *name = base;
    for (unsigned n = 2; name_taken(names, name); n++)
        name = mos_printf(x->m->arena, "%s-%u", base, n);
    mos_vec_push_pointer(names, name);
    return name;
}

static void put_partition(struct draft *x, const struct survey *s, const struct survey_span *p,
                          const struct taken *taken) {
    const char *name = taken->name;
    struct mos_arena *arena = x->m->arena;
    const struct mos_fs_driver *fs = p->has_volume ? mos_fs_find(p->volume.kind) : NULL;
    uint8_t usual[16];
    char type[37] = "";
    bool gpt = strcmp(s->driver->name, "gpt") == 0;
    if (!s->driver->type_for(fs ? fs->partition : "raw", usual) ||
        memcmp(usual, p->partition->type, 16) != 0) {
        if (gpt)
            mos_uuid_text(p->partition->type, type);
        else
            memcpy(type, mos_printf(arena, "0x%02x", p->partition->type[15]), 5);
    }
    line(x, "      %s:", name);
    line(x, "        number: %u", p->partition->number);
    line(x, "        at: %s", mos_size_exact(x->m->arena, p->start));
    line(x, "        size: %s", mos_size_exact(x->m->arena, p->length));
    if (*type)
        line(x, "        type: \"%s\"", type);
    if (*p->partition->name && strcmp(p->partition->name, name) != 0)
        line(x, "        label: %s", quoted(x, p->partition->name));
    if (p->partition->bootable)
        line(x, "        bootable: yes");
    if (gpt) {
        char id[37];
        mos_uuid_text(p->partition->id, id);
        line(x, "        id: %s   # as in the image, so that PARTUUID= goes on to fit", id);
    }
    if (fs) {
        char *label = mos_strdup(arena, p->volume.label ? p->volume.label : "");
        uint8_t uuid[16];
        bool fat = p->volume.id && strlen(p->volume.id) == 9 && p->volume.id[4] == '-';
        const char *id = p->volume.id && (fat || mos_uuid_parse(p->volume.id, uuid))
                             ? mos_printf(arena, ", id: %s", p->volume.id)
                             : "";
        line(x, "        volume: {kind: %s%s%s%s%s}", fs->name, *label ? ", label: " : "",
             *label ? quoted(x, label) : "", id,
             taken->file ? mos_printf(arena, ", fills: {all: {archive: image-%s}}", name) : "");
        if (p->volume.names.count) {
            struct mos_buf names = {.arena = arena};
            for (size_t i = 0; i < p->volume.names.count && i < 8; i++)
                mos_buf_printf(&names, "%s%s", i ? ", " : "",
                               (const char *)mos_vec_pointer(&p->volume.names, i));
            line(x, "        # it holds %s%s", harmless(x, mos_buf_string(&names)),
                 p->volume.names.count > 8 ? " …" : "");
        }
        if (!taken->file)
            unknown(
                x, mos_printf(arena, "files-of-%s", name), NULL,
                mos_printf(arena, "the files of %s: add fills (archive, folder or piece)", name));
    } else if (taken->file) {
        line(x, "        piece: image-%s   # %s", name,
             harmless(x, p->has_volume ? p->volume.kind
                         : p->what     ? p->what
                                       : "not known what it is"));
    } else {
        unknown(x, mos_printf(arena, "content-of-%s", name), NULL,
                mos_printf(arena, "what partition %u (%s) holds: %s", p->partition->number, name,
                           p->has_volume ? p->volume.kind
                           : p->what     ? p->what
                                         : "no file system that can be read"));
    }
}

static void put_raw(struct draft *x, const struct survey_span *p, const struct taken *taken) {
    const char *name = taken->name;
    if (p->environment_size) {
        line(x, "      %s: {at: %s, size: %s, environment: main, owner: device}", name,
             mos_size_exact(x->m->arena, p->start),
             mos_size_exact(x->m->arena, p->environment_size));
        return;
    }
    line(x, "      %s: {at: %s, size: %s%s}   # %s", name, mos_size_exact(x->m->arena, p->start),
         mos_size_exact(x->m->arena, mos_round_up(p->length, 4096)),
         taken->file ? mos_printf(x->m->arena, ", piece: image-%s", name) : "",
         harmless(x, p->what ? p->what : "data"));
    unknown(x, mos_printf(x->m->arena, "stage-of-%s", name), NULL,
            mos_printf(x->m->arena, "which stage the %s at %s is (stages:)",
                       p->what ? p->what : "data", mos_size_exact(x->m->arena, p->start)));
}

static void put_environment(struct draft *x, const struct survey_span *p) {
    line(x, "\nloader:");
    line(x, "  dialect: %s", p->dialect->name);
    line(x, "  environments:");
    line(x, "    main:");
    line(x, "      base: none                       # all that the image stores is written out");
    line(x, "      size: %s", mos_size_exact(x->m->arena, p->environment_size));
    if (p->flag_byte)
        line(x, "      flag-byte: yes");
    line(x, "      values:");
    for (size_t i = 0; i < p->variables.count; i++) {
        const struct mos_loader_variable *v = p->variables.items[i].value;
        line(x, "        %s: %s", quoted(x, v->name), quoted(x, v->value));
    }
}

/* The largest span that nothing uses, so that the draft does not begin with a note. */
static uint64_t largest_gap(const struct survey *s) {
    uint64_t at = 0, most = 0;
    for (size_t i = 0; i < s->spans.count; i++) {
        const struct survey_span *p = mos_vec_at(&s->spans, i);
        most = p->start > at ? mos_max(most, p->start - at) : most;
        at = mos_max(at, p->start + p->length);
    }
    return s->io.size > at ? mos_max(most, s->io.size - at) : most;
}

/* Takes everything out of the image that a build of the draft would need. */
static bool take_all(struct draft *x, struct survey *s, struct mos_vec *out) {
    struct mos_vec names = mos_vec_make(x->m->arena, sizeof(char *));
    struct mos_arena *arena = x->m->arena;
    *out = mos_vec_make(arena, sizeof(struct taken));
    for (size_t i = 0; i < s->spans.count; i++) {
        const struct survey_span *p = mos_vec_at(&s->spans, i);
        const char *type = p->partition ? s->driver->type_name(p->partition->type) : NULL;
        struct taken *t = mos_vec_push(out);
        t->skipped = type && strcmp(type, "extended") == 0;
        t->name = t->skipped ? NULL : region_name(x, p, &names);
        bool made = p->environment_size || (p->has_volume && strcmp(p->volume.kind, "swap") == 0);
        if (t->skipped || made)
            continue;
        const char *shown =
            mos_printf(arena, "pieces/%s-%s.%s", x->d->name, t->name,
                       survey_has_files(p) && mos_fs_find(p->volume.kind) ? "tar.zst" : "bin");
        const char *path = mos_path_join(arena, x->folder, shown);
        bool kept;
        if (mos_exists(&x->m->ctx, path))
            return mos_fail(&x->m->error, MOS_ERROR_SAFETY, 0, "%s is there already", path);
        if (!survey_keep(s, p, path, &kept))
            return false;
        if (kept) {
            t->file = shown;
            mos_vec_push_pointer(&x->written, shown);
        }
    }
    return true;
}

static void put_layout(struct draft *x, const struct survey *s, const struct mos_vec *taken) {
    uint64_t gap = largest_gap(s);
    line(x, "\nlayout:");
    line(x, "  card:");
    if (gap > 64 << 20)
        line(x, "    gap-note: %s                  # the image has an unused span of that size",
             mos_size_exact(x->m->arena, mos_round_up(gap, 1 << 20)));
    if (s->driver) {
        char id[37];
        mos_uuid_text(s->table.id, id);
        if (strcmp(s->driver->name, "mbr") == 0)
            id[8] = 0;
        line(x, "    table: {kind: %s%s%s}", s->driver->name,
             s->table.entries != s->driver->default_entries
                 ? mos_printf(x->m->arena, ", entries: %u", s->table.entries)
                 : "",
             mos_printf(x->m->arena, ", id: %s", id));
    }
    line(x, "    regions:");
    for (size_t i = 0; i < s->spans.count; i++) {
        const struct survey_span *p = mos_vec_at(&s->spans, i);
        const struct taken *t = mos_vec_at(taken, i);
        if (t->skipped)
            continue;
        if (p->partition)
            put_partition(x, s, p, t);
        else if (!p->has_volume || !mos_fs_find(p->volume.kind))
            put_raw(x, p, t);
        else
            line(x, "      %s: {at: 0 B, size: %s, volume: {kind: %s%s}}", t->name,
                 mos_size_exact(x->m->arena, p->length), p->volume.kind,
                 t->file ? mos_printf(x->m->arena, ", fills: {all: {archive: image-%s}}", t->name)
                         : "");
    }
    if (!s->spans.count)
        line(x, "      # nothing was found");
}

static void from_image(struct draft *x) {
    struct survey s;
    const struct survey_span *environment = NULL;
    struct mos_vec taken;
    if (!survey_open(x->m, x->d->from, &s))
        return;
    if (!take_all(x, &s, &taken)) {
        survey_close(&s);
        return;
    }
    for (size_t i = 0; i < s.spans.count; i++) {
        const struct survey_span *p = mos_vec_at(&s.spans, i);
        if (p->environment_size && !environment)
            environment = p;
    }
    const struct mos_dialect *dialect = environment ? environment->dialect : mos_dialect_at(0);
    const char *kind = x->d->medium ? x->d->medium : "sd";
    const char *loader = mos_dialect_medium(dialect, x->m->arena, kind);
    const char *sector = s.driver && s.table.sector != 512
                             ? mos_printf(x->m->arena, ", sector: %u B", s.table.sector)
                             : "";
    put_hardware(x, mos_printf(x->m->arena,
                               "    card: {kind: %s, size: %s%s}   # also loader: %s, kernel: %s\n",
                               quoted(x, kind), mos_size_exact(x->m->arena, s.io.size), sector,
                               loader, mos_dialect_kernel_name(dialect, x->m->arena, loader)));
    put_pieces(x, adopt(x, x->d->kernel, "pieces"), adopt(x, x->d->root, "pieces"),
               adopt(x, x->d->tree, "tree"), &taken);
    if (environment)
        put_environment(x, environment);
    else
        put_loader(x);
    put_layout(x, &s, &taken);
    unknown(x, "medium", "hardware.media.card.kernel",
            "what loader and kernel call the medium (hardware: media)");
    unknown(x, "boot", "boot.entries", "how it boots (boot: entries)");
    for (size_t i = 0; i < s.problems.count; i++)
        unknown(x, "damage", NULL, mos_vec_pointer(&s.problems, i));
    survey_close(&s);
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
    return put(x, "mosaicum.yaml", &text);
}

static bool good_board_name(const char *name) {
    size_t n = strspn(name, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789-_.");
    return n && n <= 64 && !name[n] && isalnum((unsigned char)name[0]);
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
        cell_text(&t, ((const struct unknown *)mos_vec_at(&x->unknown, i))->text);
    report_end(&x->m->report, &t);
}

/* What is not known stays an open question of the definition. */
static void put_questions(struct draft *x) {
    if (x->unknown.count)
        line(x, "\nquestions:                            # not known yet; check counts each until "
                "it is answered, or its line is gone");
    for (size_t i = 0; i < x->unknown.count; i++) {
        const struct unknown *u = mos_vec_at(&x->unknown, i);
        line(x, "  %s: {ask: %s%s%s}", u->name, quoted(x, u->text), u->answer ? ", answer: " : "",
             u->answer ? u->answer : "");
    }
}

static void draft(mosaicum *m, const struct mosaicum_draft *d) {
    struct draft x = {.m = m,
                      .d = d,
                      .text = {.arena = m->arena},
                      .unknown = mos_vec_make(m->arena, sizeof(struct unknown)),
                      .adopted = mos_map_make(m->arena),
                      .folder = m->options.workspace,
                      .written = mos_vec_make(m->arena, sizeof(char *))};
    const char *shown = mos_printf(m->arena, "boards/%s.yaml", d->name);
    if (!good_board_name(d->name)) {
        mos_fail(&m->error, MOS_ERROR_USAGE, 0,
                 "%s is not a name for a board: letters, digits, - and _, at most 64", d->name);
        return;
    }
    if (mos_exists(&m->ctx, mos_path_join(m->arena, x.folder, shown))) {
        mos_fail(&m->error, MOS_ERROR_SAFETY, 0, "%s is there already; new changes nothing",
                 mos_path_join(m->arena, x.folder, shown));
        return;
    }
    int e = m->ctx.host->make_folder(m->ctx.host, x.folder);
    if (e) {
        mos_fail(&m->error, MOS_ERROR_SYSTEM, e, "Cannot make %s", x.folder);
        return;
    }
    line(&x, "mosaicum: 1");
    line(&x, "board: %s", d->name);
    line(&x, "# about: what it is, in a few words\n");
    if (d->from)
        from_image(&x);
    else
        from_facts(&x);
    put_questions(&x);
    if (!m->error.kind && put_workspace(&x) && put(&x, shown, &x.text))
        report(&x);
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
