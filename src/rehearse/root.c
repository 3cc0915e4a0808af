/* The root file system: named, there, to be mounted, with a first program that can run. */
#include "rehearse/root.h"

#include "base/bytes.h"
#include "content/content.h"
#include "linux/program.h"

#include <ctype.h>
#include <stdlib.h>
#include <string.h>

enum { MOST_RAMDISK = 256 << 20, MOST_TEXT = 1 << 20 };

/* ---- the first program ---- */

enum { MOST_SCRIPTS = 5 }; /* that Linux follows from one to the next */

/* Is there a program that can run?  `scripts` have led to it; `links`: a program wants it as its
 * dynamic linker.  *why says what is wrong. */
static bool can_run(struct sim *s, struct sim_volume *v, const char *path, unsigned scripts,
                    bool links, const char **why) {
    const struct sim_file *f = sim_file(s, v, path);
    struct mos_program_info p;
    size_t length;
    *why = mos_printf(s->arena, "%s is not there", path);
    if (!f)
        return false;
    *why = mos_printf(s->arena, "%s is no file", path);
    if (f->type != MOS_ENTRY_FILE)
        return false;
    *why = mos_printf(s->arena, "%s may not be executed (mode %04o)", path, f->mode);
    if (!(f->mode & 0111))
        return false;
    uint8_t *bytes = sim_file_bytes(s, v, f, 64 << 20, &length);
    *why = mos_printf(s->arena, "%s is neither a program nor a script", path);
    if (!bytes || !mos_program_read(s->arena, bytes, length, &p))
        return false;
    *why = mos_printf(s->arena, "%s is cut off", path);
    if (p.cut)
        return false;
    const char *cpu = s->rig->cpu ? s->rig->cpu : s->boot.header.cpu;
    *why = mos_printf(s->arena, "%s is made for %s, the board is %s", path,
                      p.cpu ? p.cpu : "another processor", cpu ? cpu : "?");
    if (p.elf && cpu && !mos_program_fits(cpu, p.cpu))
        return false;
    *why = mos_printf(s->arena, "%s is no program", path);
    if (links)
        return p.elf; /* its own linker is not asked for */
    *why = mos_printf(s->arena, "%s is one script too many: Linux follows %d", path, MOST_SCRIPTS);
    if (p.script && scripts == MOST_SCRIPTS)
        return false;
    const char *below;
    if (p.interpreter && !can_run(s, v, p.interpreter, scripts + 1, p.elf, &below)) {
        size_t n = strlen(p.interpreter);
        *why = p.script && p.interpreter[n - 1] == '\r'
                   ? mos_printf(s->arena,
                                "%s asks for \"%.*s\" with a carriage return behind it: its lines "
                                "end as another system has them",
                                path, (int)n - 1, p.interpreter)
                   : mos_printf(s->arena, "%s needs %s: %s", path, p.interpreter, below);
        return false;
    }
    return true;
}

/* Of a ramdisk that runs, the kernel starts that one's. */
static void start_first(struct sim *s, const char *path) {
    sim_event(s, MOS_EVENT_KERNEL, 0, 0, NULL, "first program: %s", path);
    if (!s->out->by_ramdisk)
        s->out->program = path;
}

static void first_program(struct sim *s, struct sim_volume *root) {
    static const char *const usual[] = {"/sbin/init", "/etc/init", "/bin/init", "/bin/sh"};
    const char *asked = sim_argument(s, "init"), *why, *first_why = NULL;
    if (asked) {
        if (can_run(s, root, asked, 0, false, &why))
            start_first(s, asked);
        else
            sim_wrong(s, MOS_END_NO_ROOT, "The first program cannot start: %s.", why);
        return;
    }
    for (size_t i = 0; i < 4; i++) {
        if (can_run(s, root, usual[i], 0, false, &why)) {
            start_first(s, usual[i]);
            if (i == 3)
                sim_wrong(s, MOS_END_SHELL, "Only a bare shell starts: %s.", first_why);
            return;
        }
        first_why = i ? first_why : why;
    }
    sim_wrong(s, MOS_END_NO_ROOT, "The root holds no first program: %s.", first_why);
}

/* ---- can it be mounted? ---- */

static const char *text_of(struct sim *s, struct sim_volume *v, const char *path) {
    const struct sim_file *f = sim_file(s, v, path);
    size_t length;
    uint8_t *bytes = f ? sim_file_bytes(s, v, f, MOST_TEXT, &length) : NULL;
    return (const char *)bytes;
}

/* What this kernel's own lists say about a file system: built in, or not; -1: nothing says. */
static int built_in(struct sim *s, struct sim_volume *root, const char *release, const char *kind,
                    const char *symbol) {
    if (!release)
        return -1;
    const char *list =
        text_of(s, root, mos_printf(s->arena, "/lib/modules/%s/modules.builtin", release));
    if (list)
        return strstr(list, mos_printf(s->arena, "/%s.ko", kind)) != NULL;
    const char *config = text_of(s, root, mos_printf(s->arena, "/boot/config-%s", release));
    return config && symbol ? strstr(config, mos_printf(s->arena, "\n%s=y", symbol)) != NULL : -1;
}

static void check_mount(struct sim *s, struct sim_volume *root, const char *release) {
    const struct mos_fs_driver *fs = mos_fs_find(root->info.kind);
    const char *kind = fs && fs->kernel ? fs->kernel : root->info.kind;
    const char *forced = sim_argument(s, "rootfstype");
    int has = built_in(s, root, release, kind, fs ? fs->symbol : NULL);
    if (forced && strcmp(forced, kind) != 0)
        sim_wrong(s, MOS_END_NO_ROOT, "rootfstype=%s, but %s holds %s.", forced,
                  sim_volume_name(s, root), kind);
    else if (has == 0)
        sim_wrong(s, MOS_END_NO_ROOT,
                  "The kernel has %s only as a module, and no ramdisk that could load it.", kind);
    else if (has < 0)
        sim_unknown(s, "that this kernel can mount %s: it carries no list of what is built in",
                    kind);
}

/* ---- ramdisk ---- */

static bool any_entry(void *self, const struct mos_entry *e) {
    (void)self, (void)e;
    return true;
}

/* What lies in the ramdisk that the kernel gets; NULL: there is none, or it cannot be unpacked. */
static struct sim_volume *unpack_ramdisk(struct sim *s) {
    struct sim_boot *b = &s->boot;
    uint8_t *bytes =
        b->ramdisk_size ? sim_ram_copy(s, b->ramdisk, b->ramdisk_size, MOST_RAMDISK) : NULL;
    struct mos_unpacked u;
    if (!bytes)
        return NULL;
    struct mos_error before = *s->ctx->error;
    struct mos_io io = mos_io_memory(s->arena, bytes, b->ramdisk_size);
    if (mos_compression_of(bytes, (size_t)b->ramdisk_size) &&
        mos_unpack_memory(s->ctx, bytes, (size_t)b->ramdisk_size, MOST_RAMDISK, &u))
        io = u.io;
    struct mos_vec problems = mos_vec_make(s->arena, sizeof(char *));
    struct mos_sink sink = {NULL, any_entry, mos_ignore_data, mos_ignore_end};
    struct mos_read_request request = {
        .sink = &sink, .wants = mos_wants_no_data, .problems = &problems};
    bool good = mos_fs_cpio.stream(s->ctx, &io, &request);
    *s->ctx->error = before;
    struct sim_volume *v = good ? sim_volume_in_ram(s, io, &mos_fs_cpio) : NULL;
    if (v && v->files.count)
        return v;
    sim_event(s, MOS_EVENT_TROUBLE, 0, 0, NULL,
              "the ramdisk cannot be unpacked; the kernel goes on without it");
    return NULL;
}

/* A ramdisk in which the first program that is asked for lies takes over from here, whether that
 * can run or not (the kernel's init/main.c). */
static bool ramdisk_runs(struct sim *s) {
    static const char *const usual[] = {"/sbin/init", "/etc/init", "/bin/init", "/bin/sh"};
    struct sim_boot *b = &s->boot;
    struct sim_volume *v = unpack_ramdisk(s);
    const char *asked = v ? sim_argument(s, "rdinit") : NULL, *why, *first_why;
    const char *path = asked ? asked : "/init";
    if (!v)
        return false;
    if (!sim_file(s, v, path)) {
        sim_event(s, MOS_EVENT_KERNEL, 0, 0, NULL, "the ramdisk (%zu files) has no %s",
                  v->files.count, path);
        return false;
    }
    bool runs = can_run(s, v, path, 0, false, &why);
    first_why = runs ? NULL : why;
    const char *init = runs ? NULL : sim_argument(s, "init");
    if (init && can_run(s, v, init, 0, false, &why)) {
        path = init;
        runs = true;
    }
    for (size_t i = 0; i < 4 && !runs && !init; i++)
        if (can_run(s, v, usual[i], 0, false, &why)) {
            path = usual[i];
            runs = true;
        }
    if (first_why)
        sim_event(s, MOS_EVENT_TROUBLE, 0, 0, NULL, "the ramdisk's first program cannot start: %s",
                  first_why);
    if (!runs) {
        sim_wrong(s, MOS_END_NO_ROOT, "The first program of the ramdisk cannot start: %s.",
                  first_why);
        return true;
    }
    sim_event(s, MOS_EVENT_KERNEL, b->ramdisk, b->ramdisk_size, NULL,
              "ramdisk of %zu files, first program %s", v->files.count, path);
    s->out->program = path;
    s->out->by_ramdisk = true;
    if (first_why && strcmp(path, usual[3]) == 0) {
        sim_wrong(s, MOS_END_SHELL, "Only a bare shell of the ramdisk starts: %s.", first_why);
        return true;
    }
    sim_unknown(s, "what the first program of the ramdisk does");
    return true;
}

/* ---- in order ---- */

static void root_volume(struct sim *s, const char *name, const char *release, bool has_ramdisk) {
    const char *why;
    struct sim_volume *v = sim_named_volume(s, name, has_ramdisk, &why);
    if (!v && !why) {
        sim_undecided(s, "what root=%s is: state what the kernel calls the medium (kernel: …)",
                      name);
        return;
    }
    if (!v) {
        if (sim_flag(s, "rootwait"))
            sim_wrong(s, MOS_END_HANGS, "The kernel waits for ever (rootwait): root=%s, %s.", name,
                      why);
        else
            sim_wrong(s, MOS_END_NO_ROOT, "The kernel finds no root: root=%s, %s.", name, why);
        return;
    }
    sim_event(s, MOS_EVENT_KERNEL, 0, 0, NULL, "root=%s is %s, %s%s%s", name, sim_volume_name(s, v),
              v->info.kind ? v->info.kind : "of no file system",
              v->info.label && *v->info.label ? " " : "", v->info.label ? v->info.label : "");
    s->out->root = sim_volume_name(s, v);
    if (!v->info.kind || (v->info.damaged && !v->readable)) {
        sim_wrong(s, MOS_END_NO_ROOT, "The kernel cannot mount %s: %s.", sim_volume_name(s, v),
                  v->info.problem ? v->info.problem : "it holds no file system");
        return;
    }
    if (!v->readable) {
        sim_undecided(s, "what is in the root: %s is not read here", v->info.kind);
        return;
    }
    if (v->planned && (v->planned->empty || v->planned->no_system)) {
        sim_undecided(s, "which system %s will hold: nothing that is stated puts one there",
                      sim_volume_name(s, v));
        return;
    }
    if (strcmp(v->info.kind, "swap") == 0 || sim_volume_is_empty(s, v)) {
        sim_wrong(s, MOS_END_NO_ROOT, "The root %s holds nothing.", sim_volume_name(s, v));
        return;
    }
    if (!has_ramdisk)
        check_mount(s, v, release);
    if (s->out->end == MOS_END_BOOTS)
        first_program(s, v);
    if (s->out->end == MOS_END_BOOTS)
        sim_system(s, v);
}

void sim_root(struct sim *s, const char *release) {
    const char *name = sim_argument(s, "root");
    bool has_ramdisk = ramdisk_runs(s);
    if (s->out->end != MOS_END_BOOTS)
        return;
    s->boot.by_ramdisk = has_ramdisk;
    if (!name && has_ramdisk)
        return;
    if (!name) {
        sim_wrong(s, MOS_END_NO_ROOT, "The arguments name no root, and %s.",
                  s->boot.ramdisk_size ? "the ramdisk has no /init" : "there is no ramdisk");
        return;
    }
    if (strcmp(name, "/dev/nfs") == 0 || strncmp(name, "/dev/ram", 8) == 0) {
        sim_undecided(s, "what root=%s holds: it lies on no medium of the board", name);
        return;
    }
    root_volume(s, name, release, has_ramdisk);
}
