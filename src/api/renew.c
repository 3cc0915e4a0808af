/* renew: what brings a board's kernel and modules from one build of a release to another, as files
 * and a script for the board's own shell. */
#include "api/module-files.h"

#include "base/bytes.h"
#include "base/out.h"
#include "base/text.h"
#include "linux/module.h"

#include <stdlib.h>
#include <string.h>

enum { MOST_MODULE = 64 << 20 };

#define MODULES "lib/modules/"

struct item {
    const char *path; /* without usr/ */
    char sum[65];
    uint64_t size;
    bool wanted; /* it is written */
};

/* A folder or an archive with modules of one release, and a kernel where there is one. */
struct side {
    mosaicum *m;
    const char *path;
    bool folder;
    struct mos_map items; /* path -> struct item * */
    const char *release;  /* NULL: no modules */
    const char *other;    /* a second one; NULL */
    const char *kernel;   /* "boot/vmlinuz-6.1.0"; NULL */
    const char *misfit;   /* a module that says another release */
    const char *misfit_release;
    /* of the file that goes by */
    struct item *current;
    struct mos_sha256 *hash;
    uint64_t at;
    uint8_t *bytes; /* of a module; NULL: it is none */
};

static const char *without_usr(const char *path) {
    return strncmp(path, "usr/lib/", 8) == 0 ? path + 4 : path;
}

/* A script that is run as root has it in a line of its own, and in quotes. */
static bool is_plain(const char *path) {
    return path[strspn(
               path, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789._+-/~:@,=")] ==
           0;
}

static bool is_kernel(const char *path) {
    static const char *const names[] = {"vmlinuz", "Image", "zImage", "vmlinux", "kernel"};
    if (strncmp(path, "boot/", 5) != 0 || strchr(path + 5, '/'))
        return false;
    for (size_t i = 0; i < sizeof names / sizeof *names; i++)
        if (strncmp(path + 5, names[i], strlen(names[i])) == 0)
            return true;
    return false;
}

/* What the index brings is made again, and links of a build point nowhere on a board. */
static bool is_index(const char *name) {
    return strncmp(name, "modules.", 8) == 0 && strcmp(name, "modules.order") != 0 &&
           strncmp(name, "modules.builtin", 15) != 0;
}

static bool take_entry(void *self, const struct mos_entry *e) {
    struct side *s = self;
    struct mos_arena *arena = s->m->arena;
    const char *path = without_usr(e->path);
    bool module = strncmp(path, MODULES, strlen(MODULES)) == 0;
    s->current = NULL;
    s->bytes = NULL;
    if (module) {
        const char *name = path + strlen(MODULES);
        size_t n = strcspn(name, "/");
        if (!s->release || strncmp(s->release, name, n) != 0 || s->release[n])
            *(s->release ? &s->other : &s->release) = mos_strndup(arena, name, n);
        if (is_index(strrchr(path, '/') + 1))
            return true;
    }
    if (e->type != MOS_ENTRY_FILE || (!module && !is_kernel(path)))
        return true;
    if (!is_plain(path))
        return mos_fail(&s->m->error, MOS_ERROR_SAFETY, 0,
                        "%s has the file %s, whose name is not safe in a script", s->path, path);
    if (!module && s->kernel)
        return mos_fail(&s->m->error, MOS_ERROR_USAGE, 0,
                        "%s has two kernels, %s and %s: leave one of them out", s->path, s->kernel,
                        path);
    if (!module)
        s->kernel = mos_strdup(arena, path);
    s->current = mos_alloc(arena, sizeof *s->current);
    s->current->path = mos_strdup(arena, path);
    s->current->size = e->size;
    s->hash = mos_sha256_new();
    s->at = 0;
    bool looked_at = mos_module_name(arena, strrchr(path, '/') + 1) != NULL;
    if (looked_at && e->size <= MOST_MODULE)
        s->bytes = calloc(1, (size_t)e->size + 1);
    if (!s->hash || (looked_at && !s->bytes)) /* nothing is called equal that was not compared */
        return mos_fail(&s->m->error, MOS_ERROR_SYSTEM, 0, "%s: %s is too large to be looked at",
                        s->path, path);
    mos_map_set(&s->items, s->current->path, s->current);
    return true;
}

/* What no data came for is zero. */
static void zeros_to(struct side *s, uint64_t until) {
    if (s->at < until)
        mos_sha256_zeros(s->hash, until - s->at);
}

static bool take_data(void *self, uint64_t offset, const void *bytes, size_t length) {
    struct side *s = self;
    if (!s->current)
        return true;
    zeros_to(s, offset);
    mos_sha256_update(s->hash, bytes, length);
    if (s->bytes && offset < s->current->size)
        memcpy(s->bytes + offset, bytes, (size_t)mos_min(length, s->current->size - offset));
    s->at = offset + length;
    return true;
}

static void look_at_module(struct side *s) {
    struct mos_ctx aside = s->m->ctx;
    struct mos_module_info info;
    struct mos_error ignored = {0};
    const uint8_t *bytes = s->bytes;
    size_t length = (size_t)s->current->size;
    aside.arena = mos_arena_child(s->m->arena);
    aside.error = &ignored;
    bool good = mos_unpack_bytes(&aside, &bytes, &length, MOST_MODULE) &&
                mos_module_read(aside.arena, bytes, length, &info);
    const char *says = !good ? "nothing that can be read" : info.release;
    if (says && !s->misfit &&
        (!good ||
         strncmp(s->current->path + strlen(MODULES), info.release, strlen(info.release)) != 0)) {
        s->misfit = s->current->path;
        s->misfit_release = mos_strdup(s->m->arena, says);
    }
    mos_arena_free(aside.arena);
}

static bool take_end(void *self, uint64_t sum) {
    struct side *s = self;
    uint8_t hash[MOS_SHA256_SIZE] = {0};
    (void)sum;
    if (s->current) {
        zeros_to(s, s->current->size);
        mos_sha256_final(s->hash, hash);
        mos_sha256_hex(hash, s->current->sum);
        if (s->bytes)
            look_at_module(s);
    }
    mos_sha256_free(s->hash);
    free(s->bytes);
    s->hash = NULL;
    s->bytes = NULL;
    s->current = NULL;
    return true;
}

static bool stream(void *self, const struct mos_sink *sink) {
    struct side *s = self;
    return s->folder ? mos_folder_stream(&s->m->ctx, s->path, mos_date(&s->m->ctx), sink)
                     : mos_archive_stream(&s->m->ctx, s->path, (struct mos_place){0}, sink, NULL);
}

static bool read_side(mosaicum *m, const char *path, struct side *s) {
    struct mos_file_info info;
    struct mos_sink sink = {s, take_entry, take_data, take_end};
    *s = (struct side){.m = m, .path = path, .items = mos_map_make(m->arena)};
    run_allow(m, path, MOS_REACH_READ);
    int e = m->ctx.host->info(m->ctx.host, path, true, &info);
    if (e)
        return mos_fail(&m->error, MOS_ERROR_USAGE, e, "Cannot read %s", path);
    s->folder = info.kind == MOS_FILE_FOLDER;
    if (!stream(s, &sink))
        return m->error.kind ? false
                             : mos_fail(&m->error, MOS_ERROR_USAGE, 0, "Cannot read %s", path);
    if (!s->release)
        return mos_fail(
            &m->error, MOS_ERROR_USAGE, 0,
            "There is no lib/modules/RELEASE in %s: name a folder, an archive or a package "
            "that has one",
            path);
    if (s->other)
        return mos_fail(&m->error, MOS_ERROR_USAGE, 0, "%s has modules of two releases, %s and %s",
                        path, s->release, s->other);
    if (s->misfit)
        return mos_fail(&m->error, MOS_ERROR_SAFETY, 0,
                        "%s: %s was made for %s; a kernel %s refuses it", path, s->misfit,
                        s->misfit_release, s->release);
    return true;
}

/* ---- the folder ---- */

struct renewal {
    mosaicum *m;
    struct side old, now;
    const char *to;
    struct mos_buf list; /* "OLD-SUM NEW-SUM PATH", a line each; -: there is none */
    size_t changed, added, removed;
    uint64_t bytes;
    struct mos_out out;        /* of the file that goes by */
    const struct item *writes; /* NULL: it is left out */
    struct module_index index;
};

static bool write_file(struct renewal *r, const char *name, const void *bytes, size_t length) {
    const char *path = mos_path_join(r->m->arena, r->to, name);
    int e = r->m->ctx.host->make_folder(r->m->ctx.host, mos_path_folder(r->m->arena, path));
    return e ? mos_fail(&r->m->error, MOS_ERROR_SYSTEM, e, "Cannot make %s", path)
             : mos_write_file(&r->m->ctx, path, bytes, length);
}

static bool put_entry(void *self, const struct mos_entry *e) {
    struct renewal *r = self;
    const struct item *x = mos_map_get(&r->now.items, without_usr(e->path));
    r->writes = e->type == MOS_ENTRY_FILE && x && x->wanted ? x : NULL;
    if (!r->writes)
        return true;
    const char *path =
        mos_path_join(r->m->arena, r->to, mos_printf(r->m->arena, "files/%s", x->path));
    int e2 = r->m->ctx.host->make_folder(r->m->ctx.host, mos_path_folder(r->m->arena, path));
    if (e2)
        return mos_fail(&r->m->error, MOS_ERROR_SYSTEM, e2, "Cannot make %s", path);
    return mos_out_open(&r->out, &r->m->ctx, path, true);
}

static bool put_data(void *self, uint64_t offset, const void *bytes, size_t length) {
    struct renewal *r = self;
    int e = r->writes ? mos_out_write(&r->out, bytes, length, offset) : 0;
    return !e || mos_fail(&r->m->error, MOS_ERROR_SYSTEM, e, "Cannot write %s", r->out.path);
}

static bool put_end(void *self, uint64_t sum) {
    struct renewal *r = self;
    (void)sum;
    if (!r->writes)
        return true;
    uint64_t size = r->writes->size; /* zeros at its end are not sent */
    r->writes = NULL;
    return mos_out_commit(&r->out, size, true);
}

static void list_one(struct renewal *r, const char *old, const char *new, const char *path) {
    mos_buf_printf(&r->list, "%s %s %s\n", old, new, path);
}

static int by_path(const void *a, const void *b) {
    const struct item *const *x = a, *const *y = b;
    return strcmp((*x)->path, (*y)->path);
}

static void put_all(const struct side *s, struct mos_vec *out) {
    for (size_t i = 0; i < s->items.count; i++)
        mos_vec_push_pointer(out, s->items.items[i].value);
    qsort(out->items, out->count, sizeof(void *), by_path);
}

/* Which files differ; a kernel only where both have one. */
static void compare(struct renewal *r) {
    struct mos_vec now = mos_vec_make(r->m->arena, sizeof(void *)),
                   old = mos_vec_make(r->m->arena, sizeof(void *));
    put_all(&r->now, &now);
    put_all(&r->old, &old);
    for (size_t i = 0; i < now.count; i++) {
        struct item *x = mos_vec_pointer(&now, i);
        const struct item *was = mos_map_get(&r->old.items, x->path);
        bool kernel = r->now.kernel && strcmp(x->path, r->now.kernel) == 0;
        if ((was && strcmp(was->sum, x->sum) == 0) || (kernel && !was))
            continue;
        x->wanted = true;
        *(was ? &r->changed : &r->added) += 1;
        r->bytes += x->size;
        list_one(r, was ? was->sum : "-", x->sum, x->path);
    }
    for (size_t i = 0; i < old.count; i++) {
        const struct item *x = mos_vec_pointer(&old, i);
        if (mos_map_get(&r->now.items, x->path) || is_kernel(x->path))
            continue;
        r->removed++;
        list_one(r, x->sum, "-", x->path);
    }
}

static const char script_head[] =
    "#!/bin/sh\n"
    "# Made by Mosaicum: brings a board with kernel %s from one build of it to another.\n"
    "#   sh install.sh         nothing is changed before every check has passed\n"
    "#   sh install.sh back    puts back what was there before\n"
    "# ROOT=/mnt in front is for a root that is mounted elsewhere.\n"
    "release='%s'\n"
    "kernel='%s'\n"
    "need=%llu # KiB, twice what is new: the old files are kept\n"
    "root=${ROOT:-}\n"
    "here=$(cd \"$(dirname \"$0\")\" && pwd)\n"
    "kept=$root/var/lib/before-$release\n"
    "index=$root/lib/modules/$release\n\n"
    "# what was there, what comes, and where; - for nothing\n"
    "list() {\n    cat <<'END'\n";

static const char script_body[] =
    "END\n}\n\n"
    "stop() { echo \"$*. Nothing was changed.\" >&2; exit 1; }\n"
    "sum() { [ -f \"$1\" ] && sha256sum <\"$1\" | cut -c 1-64 || echo -; }\n"
    "# a file gets its name when it is whole\n"
    "put() { mkdir -p \"$(dirname \"$2\")\" && cp -p \"$1\" \"$2.new\" && mv \"$2.new\" \"$2\"; "
    "}\n\n"
    "# An entry of the menu that names the kernel comes once more at its end, with the old one.\n"
    "menus() {\n"
    "    for menu in \"$root/boot/extlinux/extlinux.conf\" \"$root/extlinux/extlinux.conf\"; do\n"
    "        [ -f \"$menu\" ] && grep -q \"/${kernel##*/}[[:space:]]*\\$\" \"$menu\" && echo "
    "\"$menu\"\n"
    "    done\n"
    "}\n"
    "add_entry() {\n"
    "    awk -v name=\"${kernel##*/}\" '\n"
    "        function done() { if (uses) more = more \"\\n\" block }\n"
    "        { print }\n"
    "        tolower($1) == \"label\" { done(); block = \"\"; uses = 0; inside = 1; sub(/[^ "
    "\\t]+$/, $2 "
    "\"-before\") }\n"
    "        inside && (tolower($1) == \"kernel\" || tolower($1) == \"linux\") {\n"
    "            n = split($2, part, \"/\")\n"
    "            if (part[n] == name) { uses = 1; sub(/[ \\t]*$/, \"-before\") }\n"
    "        }\n"
    "        inside { block = block $0 \"\\n\" }\n"
    "        END { done(); printf \"%s\", more }\n"
    "    ' \"$1\"\n"
    "}\n\n"
    "if [ \"$1\" = back ]; then\n"
    "    [ -d \"$kept\" ] || stop \"There is nothing to put back in $kept\"\n"
    "    list | while read -r old new path; do\n"
    "        if [ \"$old\" = - ]; then rm -f \"$root/$path\"; else put \"$kept/$path\" "
    "\"$root/$path\"; "
    "fi || exit 1\n"
    "    done || exit 1\n"
    "    for f in \"$here/files/lib/modules/$release\"/modules.*; do rm -f \"$index/${f##*/}\"; "
    "done\n"
    "    (cd \"$kept/index\" && for f in *; do [ ! -f \"$f\" ] || put \"$f\" \"$index/$f\" || exit "
    "1; done) || exit "
    "1\n"
    "    (cd \"$kept/menus\" 2>/dev/null && find . -type f | while read -r f; do put \"$f\" "
    "\"$root/$f\" || exit 1; done)\n"
    "    [ -z \"$kernel\" ] || rm -f \"$root/$kernel-before\"\n"
    "    sync\n"
    "    rm -rf \"$kept\"\n"
    "    echo \"What was there before is back.\"\n"
    "    exit 0\n"
    "fi\n\n"
    "# ---- checks ----\n"
    "[ -d \"$index\" ] || stop \"There are no modules of $release below ${root:-/}\"\n"
    "[ -n \"$root\" ] || [ \"$(uname -r)\" = \"$release\" ] || stop \"This board runs $(uname -r), "
    "and "
    "these are for $release\"\n"
    "[ ! -d \"$kept\" ] || stop \"It was done already: $kept is there; sh install.sh back comes "
    "first\"\n"
    "have=$(df -Pk \"${root:-/}\" | awk 'NR == 2 { print $4 }')\n"
    "[ \"${have:-0}\" -ge \"$need\" ] || stop \"${root:-/} has ${have:-0} KiB free, and $need are "
    "needed\"\n"
    "list | while read -r old new path; do\n"
    "    is=$(sum \"$root/$path\")\n"
    "    [ \"$is\" = \"$old\" ] || stop \"/$path is not the one that this was made from\"\n"
    "    [ \"$new\" = - ] || [ \"$(sum \"$here/files/$path\")\" = \"$new\" ] || stop "
    "\"$here/files/$path "
    "is damaged\"\n"
    "done || exit 1\n\n"
    "# ---- what is there is kept ----\n"
    "mkdir -p \"$kept/index\" || stop \"$kept cannot be made\"\n"
    "list | while read -r old new path; do\n"
    "    [ \"$old\" = - ] || put \"$root/$path\" \"$kept/$path\" || exit 1\n"
    "done || { rm -rf \"$kept\"; stop \"What is there cannot be kept in $kept\"; }\n"
    "for f in \"$index\"/modules.*; do\n"
    "    [ ! -f \"$f\" ] || put \"$f\" \"$kept/index/${f##*/}\" || { rm -rf \"$kept\"; stop \"$f "
    "cannot be "
    "kept\"; }\n"
    "done\n\n"
    "# ---- what is new ----\n"
    "fail() { echo \"$* failed: sh install.sh back puts everything back.\" >&2; exit 1; }\n"
    "if [ -n \"$kernel\" ]; then\n"
    "    put \"$root/$kernel\" \"$root/$kernel-before\" || fail \"Keeping the old kernel\"\n"
    "    if [ -z \"$(menus)\" ]; then\n"
    "        echo \"No menu names /$kernel: the old kernel stays as /$kernel-before, and nothing "
    "starts it "
    "by itself.\"\n"
    "    else\n"
    "        menus | while read -r menu; do\n"
    "            put \"$menu\" \"$kept/menus/${menu#$root/}\" && add_entry \"$menu\" "
    ">\"$menu.new\" && mv "
    "\"$menu.new\" \"$menu\" || fail \"$menu\"\n"
    "        done || exit 1\n"
    "    fi\n"
    "fi\n"
    "list | while read -r old new path; do\n"
    "    if [ \"$new\" = - ]; then rm -f \"$root/$path\"; else put \"$here/files/$path\" "
    "\"$root/$path\"; fi "
    "|| exit 1\n"
    "done || fail \"Putting files in place\"\n"
    "for f in \"$here/files/lib/modules/$release\"/modules.*; do\n"
    "    [ ! -f \"$f\" ] || put \"$f\" \"$index/${f##*/}\" || fail \"The index of modules\"\n"
    "done\n"
    "sync\n"
    "echo \"Done. What was there is in $kept; start the board again.\"\n";

static bool write_all(struct renewal *r) {
    mosaicum *m = r->m;
    struct mos_sink sink = {r, put_entry, put_data, put_end};
    struct mos_buf script = {.arena = m->arena};
    const struct item *kernel = r->now.kernel ? mos_map_get(&r->now.items, r->now.kernel) : NULL;
    const char *folder = mos_printf(m->arena, MODULES "%s", r->now.release);
    if (!stream(&r->now, &sink) || !module_index_of(m, folder, stream, &r->now, &r->index))
        return m->error.kind
                   ? false
                   : mos_fail(&m->error, MOS_ERROR_USAGE, 0, "Cannot read %s", r->now.path);
    for (size_t i = 0; i < r->index.files.count; i++) {
        const struct mos_index_file *f = mos_vec_at(&r->index.files, i);
        r->bytes += f->bytes.length;
        if (!write_file(r, mos_printf(m->arena, "files/%s/%s", folder, f->name), f->bytes.data,
                        f->bytes.length))
            return false;
    }
    mos_buf_printf(&script, script_head, r->now.release, r->now.release,
                   kernel && kernel->wanted ? kernel->path : "",
                   (unsigned long long)mos_div_up(2 * r->bytes, 1024));
    mos_buf_add(&script, r->list.data, r->list.length);
    mos_buf_text(&script, script_body);
    return write_file(r, "install.sh", script.data, script.length);
}

static void report(struct renewal *r) {
    static const struct mosaicum_column columns[] = {{"fact", "", false}, {"value", "", false}};
    mosaicum *m = r->m;
    const struct item *kernel = r->now.kernel ? mos_map_get(&r->now.items, r->now.kernel) : NULL;
    struct report_table t = report_start(&m->report, "renewal", NULL, columns, 2);
    t.table.title = mos_printf(m->arena, "%s, for boards with kernel %s", r->to, r->now.release);
    cell_text(&t, "files");
    cell_text(&t, mos_printf(m->arena, "%zu changed, %zu new, %zu removed", r->changed, r->added,
                             r->removed));
    cell_text(&t, "kernel");
    cell_text(&t, kernel && kernel->wanted
                      ? mos_printf(m->arena,
                                   "/%s; the old one stays as /%s-before, last in "
                                   "the menu",
                                   kernel->path, kernel->path)
                  : kernel ? "the same in both"
                           : "none is given");
    cell_text(&t, "index");
    cell_text(&t, mos_printf(m->arena, "made again for %zu module%s", r->index.modules,
                             r->index.modules == 1 ? "" : "s"));
    cell_text(&t, "size");
    cell_text(&t, mos_size_about(m->arena, r->bytes));
    if (r->index.lack.count) {
        cell_text(&t, "lacks");
        cell_text(&t, module_lack_text(m->arena, &r->index.lack));
    }
    cell_text(&t, "next");
    cell_text(&t, "copy the folder to the board, and run there: sh install.sh");
    report_end(&m->report, &t);
}

static void renew(mosaicum *m, const char *old, const char *now, const char *to) {
    struct renewal *r = mos_alloc(m->arena, sizeof *r);
    *r = (struct renewal){.m = m, .to = to, .list = {.arena = m->arena}};
    if (!read_side(m, old, &r->old) || !read_side(m, now, &r->now))
        return;
    if (strcmp(r->old.release, r->now.release) != 0) {
        mos_fail(&m->error, MOS_ERROR_SAFETY, 0,
                 "%s has modules of %s, %s of %s: a kernel loads none of another release; build an "
                 "image "
                 "with the new kernel, or give both builds one name (CONFIG_LOCALVERSION)",
                 old, r->old.release, now, r->now.release);
        return;
    }
    if (mos_exists(&m->ctx, to)) {
        mos_fail(&m->error, MOS_ERROR_SAFETY, 0, "%s is there already; name another folder with -o",
                 to);
        return;
    }
    compare(r);
    if (!r->list.length) {
        mos_fail(&m->error, MOS_ERROR_USAGE, 0, "%s and %s are the same: there is nothing to renew",
                 old, now);
        return;
    }
    if (write_all(r))
        report(r);
}

enum mosaicum_status mosaicum_renew(mosaicum *m, const char *old, const char *now, const char *to) {
    if (setjmp(m->out_of_memory))
        return run_no_memory(m);
    run_allow(m, to, MOS_REACH_READ | MOS_REACH_WRITE);
    renew(m, old, now, to);
    return run_status(m);
}
