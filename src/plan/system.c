/* What the definition says about the root file system, as files of it: host name, mount table,
 * users, the place of the loader's environment, log-in on the console. */
#include "plan/system_internal.h"

#include "base/secret.h"
#include "base/text.h"

#include <stdlib.h>
#include <string.h>

/* ---- the mount table ---- */

static const char *options_text(struct system_writer *w, const struct mos_mount *m) {
    struct mos_buf b = {.arena = w->arena};
    for (size_t i = 0; i < m->options.count; i++)
        if (mos_has(m->options.items[i]))
            mos_buf_printf(&b, "%s%s", b.length ? "," : "", m->options.items[i]->text);
    return b.length ? mos_buf_string(&b) : "defaults";
}

static bool put_mounts(struct system_writer *w, const struct mos_system *s) {
    struct mos_buf b = {.arena = w->arena};
    mos_buf_text(&b, "# Made by Mosaicum from the board's layout.\n");
    for (size_t i = 0; i < s->mounts.count; i++) {
        const struct mos_mount *m = s->mounts.items[i];
        const struct mos_region_plan *r = mos_plan_region(w->plan, m->r.name);
        const char *what = mos_has(m->what) ? m->what->text
                           : r              ? mos_plan_partition_name(w->plan, m->r.name)
                                            : m->r.name;
        const char *kind = mos_has(m->kind)              ? m->kind->text
                           : r && r->fs && r->fs->kernel ? r->fs->kernel
                                                         : "auto";
        if (!what || !mos_has(m->at))
            continue;
        if (!r && mos_plan_has_slots(w->plan, m->r.name)) { /* only / may be one of them */
            mos_buf_printf(&b, "# %s: the slot that was started, which the kernel has mounted\n",
                           m->at->text);
            continue;
        }
        int pass = strcmp(m->at->text, "/") == 0 ? 1 : r ? 2 : 0;
        mos_buf_printf(&b, "%s %s %s %s 0 %d\n", what, m->at->text, kind, options_text(w, m), pass);
    }
    return system_put(w, "etc/fstab", 0644, 0, mos_buf_string(&b));
}

/* ---- the loader's environment ---- */

/* Where a volume is mounted; NULL: nowhere. */
static const char *mounted_at(const struct system_writer *w, const struct mos_region_plan *r) {
    const struct mos_system *s = w->plan->board->system;
    const struct mos_mount *m = s ? mos_named_get(&s->mounts, r->name) : NULL;
    return m && mos_has(m->at) ? m->at->text : NULL;
}

/* Variables that are kept in a file of a volume. */
static void put_environment_files(struct system_writer *w, struct mos_buf *out) {
    const struct mos_stored_form *form = w->plan->dialect->stored;
    for (size_t i = 0; i < w->plan->media.count; i++) {
        const struct mos_medium_plan *m = mos_vec_pointer(&w->plan->media, i);
        for (size_t k = 0; k < m->regions.count; k++) {
            const struct mos_region_plan *r = mos_vec_pointer(&m->regions, k);
            const struct mos_volume *v = r->def->volume;
            const char *at = mounted_at(w, r);
            for (size_t n = 0; v && at && n < v->fills.count; n++) {
                const struct mos_fill *f = v->fills.items[n];
                const struct mos_environment *e =
                    mos_has(f->environment) ? f->environment->target : NULL;
                if (e && mos_has(e->size))
                    form->write_place(out,
                                      mos_printf(w->arena, "%s%s%s", at,
                                                 strcmp(at, "/") == 0 ? "" : "/",
                                                 mos_text_or(f->to, form->file)),
                                      0, e->size->number, 0);
            }
        }
    }
}

/* Device, offset, size (and sector size on flash) of each copy. */
static bool put_loader_access(struct system_writer *w) {
    const struct mos_stored_form *form = w->plan->dialect ? w->plan->dialect->stored : NULL;
    if (!form) /* it was said */
        return true;
    struct mos_buf b = {.arena = w->arena};
    mos_buf_text(&b, "# Made by Mosaicum: where the loader keeps its environment.\n");
    for (size_t i = 0; i < w->plan->media.count; i++) {
        const struct mos_medium_plan *m = mos_vec_pointer(&w->plan->media, i);
        for (size_t k = 0; k < m->regions.count && mos_has(m->medium->kernel); k++) {
            const struct mos_region_plan *r = mos_vec_pointer(&m->regions, k);
            if (!r->environment || !r->placed)
                continue;
            bool flash =
                mos_has(m->medium->erase) && strncmp(m->medium->kernel->text, "mtd", 3) == 0;
            form->write_place(&b, mos_printf(w->arena, "/dev/%s", m->medium->kernel->text),
                              r->start, r->environment->size, flash ? m->medium->erase->number : 0);
        }
    }
    put_environment_files(w, &b);
    return system_put(w, form->system_file, 0644, 0, mos_buf_string(&b));
}

/* ---- users ---- */

/* The n-th field of a line as a number; UINT64_MAX: it is none. */
static uint64_t number_at(const char *line, unsigned n) {
    for (; n; n--) {
        line += strcspn(line, ":\n");
        if (*line != ':')
            return UINT64_MAX;
        line++;
    }
    return *line >= '0' && *line <= '9' ? strtoull(line, NULL, 10) : UINT64_MAX;
}

/* Looks through all lines: is the number there, and which is the highest of a user's own? */
static bool has_number(const char *text, unsigned at, uint64_t number, uint64_t *highest) {
    enum { FIRST_USER = 1000, LAST_USER = 59999 };
    bool found = false;
    *highest = FIRST_USER - 1;
    while (text && *text) {
        uint64_t n = number_at(text, at);
        found |= n == number;
        if (n >= FIRST_USER && n <= LAST_USER && n > *highest)
            *highest = n;
        text = mos_next_line(text);
    }
    return found;
}

/* passwd, shadow and group, edited in place. */
struct accounts {
    struct mos_buf passwd, shadow, group;
};

/* The line of `name` becomes `line`; a new one is put at the end. */
static void set_line(struct system_writer *w, struct mos_buf *text, const char *name,
                     const char *line) {
    if (system_line_of(mos_buf_string(text), name)) {
        const char *edited = system_with_line(w, mos_buf_string(text), name, line);
        text->length = 0;
        mos_buf_text(text, edited);
        return;
    }
    if (text->length && text->data[text->length - 1] != '\n')
        mos_buf_char(text, '\n');
    mos_buf_printf(text, "%s\n", line);
}

static const char *password_of(struct system_writer *w, const struct mos_user *u, const char *old) {
    const char *none =
        u->keys.count ? "*" : "!"; /* sshd takes ! for a user who may not even use keys */
    if (mos_true(u->locked))
        return none;
    if (mos_has(u->password_hash))
        return u->password_hash->text;
    if (!mos_has(u->password_file))
        return old && *mos_field(w->arena, old, 1) ? mos_field(w->arena, old, 1) : none;
    const char *password =
        system_first_line(w, u->password_file, mos_printf(w->arena, "password of %s", u->r.name));
    const char *seed = mos_printf(w->arena, "%s/%s/%s", w->plan->board->workspace_name,
                                  w->plan->board->r.name, u->r.name);
    const char *hash = password ? mos_password_hash(w->arena, password, seed) : NULL;
    return hash ? hash : none;
}

static void add_user(struct system_writer *w, const struct mos_user *u, struct accounts *a,
                     uint64_t *id_out, const char **home_out) {
    const char *old = system_line_of(mos_buf_string(&a->passwd), u->r.name), *name = u->r.name;
    bool root = strcmp(name, "root") == 0;
    uint64_t id = 0, highest;
    if (mos_has(u->id)) {
        id = u->id->number;
    } else if (old) {
        id = strtoull(mos_field(w->arena, old, 2), NULL, 10);
    } else if (!root) {
        has_number(mos_buf_string(&a->passwd), 2, 0, &highest);
        id = highest + 1;
    }
    uint64_t group = mos_has(u->group) ? u->group->number
                     : old             ? strtoull(mos_field(w->arena, old, 3), NULL, 10)
                                       : id;
    const char *home = mos_has(u->home)                      ? u->home->text
                       : old && *mos_field(w->arena, old, 5) ? mos_field(w->arena, old, 5)
                       : root                                ? "/root"
                              : mos_printf(w->arena, "/home/%s", name);
    const char *shell = mos_has(u->shell)                     ? u->shell->text
                        : old && *mos_field(w->arena, old, 6) ? mos_field(w->arena, old, 6)
                                                              : "/bin/sh";
    set_line(w, &a->passwd, name,
             mos_printf(w->arena, "%s:x:%llu:%llu:%s:%s:%s", name, (unsigned long long)id,
                        (unsigned long long)group, old ? mos_field(w->arena, old, 4) : "", home,
                        shell));
    const char *shadow = system_line_of(mos_buf_string(&a->shadow), name);
    set_line(w, &a->shadow, name,
             mos_printf(w->arena, "%s:%s:%lld:0:99999:7:::", name, password_of(w, u, shadow),
                        (long long)(w->plan->board->date / 86400)));
    if (!has_number(mos_buf_string(&a->group), 2, group, &highest))
        set_line(w, &a->group, name,
                 mos_printf(w->arena, "%s:x:%llu:", name, (unsigned long long)group));
    *id_out = id;
    *home_out = home;
}

static bool put_keys(struct system_writer *w, const struct mos_user *u, uint64_t id,
                     const char *home) {
    struct mos_buf keys = {.arena = w->arena}, path = {.arena = w->arena};
    const char *inside = mos_entry_path(&path, home);
    if (!u->keys.count || !inside)
        return true;
    inside = mos_strdup(w->arena, inside);
    for (size_t i = 0; i < u->keys.count; i++) {
        const char *line = mos_has(u->keys.items[i])
                               ? system_first_line(w, u->keys.items[i],
                                                   mos_printf(w->arena, "key of %s", u->r.name))
                               : NULL;
        if (line && strncmp(line, "-----BEGIN", 10) != 0) /* a private key has its own finding */
            mos_buf_printf(&keys, "%s\n", line);
    }
    uint32_t owner = (uint32_t)id, index;
    if (*inside && !mos_inv_find(w->region->volume->inventory, inside, &index) &&
        !system_put_folder(w, inside, 0700, owner))
        return false;
    return system_put_folder(w, mos_printf(w->arena, "%s/.ssh", inside), 0700, owner) &&
           system_put(w, mos_printf(w->arena, "%s/.ssh/authorized_keys", inside), 0600, owner,
                      mos_buf_string(&keys));
}

static bool put_users(struct system_writer *w, const struct mos_system *s) {
    struct accounts a = {{.arena = w->arena}, {.arena = w->arena}, {.arena = w->arena}};
    mos_buf_text(&a.passwd, system_old_text(w, "etc/passwd"));
    mos_buf_text(&a.shadow, system_old_text(w, "etc/shadow"));
    mos_buf_text(&a.group, system_old_text(w, "etc/group"));
    bool ok = true;
    for (size_t i = 0; i < s->users.count && ok; i++) {
        uint64_t id;
        const char *home;
        add_user(w, s->users.items[i], &a, &id, &home);
        ok = put_keys(w, s->users.items[i], id, home);
    }
    return ok && system_put_edited(w, "etc/passwd", 0644, mos_buf_string(&a.passwd)) &&
           system_put_edited(w, "etc/group", 0644, mos_buf_string(&a.group)) &&
           system_put_edited(w, "etc/shadow", 0600, mos_buf_string(&a.shadow));
}

/* ---- counted starts ---- */

static const char confirm_unit[] = "[Unit]\n"
                                   "Description=Tells the loader that this start went well\n"
                                   "After=multi-user.target\n\n"
                                   "[Service]\n"
                                   "Type=oneshot\n"
                                   "ExecStart=%s\n\n"
                                   "[Install]\n"
                                   "WantedBy=multi-user.target\n";

/* Once the system runs, the loader's count goes back to 0. */
static bool put_confirm(struct system_writer *w, const struct mos_value *by) {
    if (!w->plan->dialect || !w->plan->dialect->stored) /* it was said */
        return true;
    const char *confirms = w->plan->dialect->stored->confirms;
    if (mos_starter_of(by) == MOS_STARTER_SYSTEMD)
        return system_put(w, "etc/systemd/system/boot-confirm.service", 0644, 0,
                          mos_printf(w->arena, confirm_unit, confirms)) &&
               system_put_link(w, "etc/systemd/system/multi-user.target.wants/boot-confirm.service",
                               "../boot-confirm.service");
    system_add_action(w, "conf", "2345", "once", confirms);
    return true;
}

/* ---- the other slot ---- */

/* The running entry is told by its root; what is set is what the loader's script goes by. */
static bool put_other_slot(struct system_writer *w) {
    const struct mos_stored_form *form = w->plan->dialect ? w->plan->dialect->stored : NULL;
    struct mos_buf b = {.arena = w->arena};
    if (!form || w->plan->entries.count < 2) /* it was said */
        return true;
    mos_buf_text(&b, "#!/bin/sh\n# Made by Mosaicum.  The other entry starts next; until it is "
                     "confirmed, the loader goes back to\n# this one by itself.\ncase \"$(cat "
                     "/proc/cmdline) \" in\n");
    for (size_t i = 0; i < 2; i++) {
        const struct mos_entry_plan *e = mos_vec_pointer(&w->plan->entries, i),
                                    *other = mos_vec_pointer(&w->plan->entries, 1 - i);
        const char *root = e->root ? mos_plan_partition_name(w->plan, e->root->name) : NULL;
        if (!root) /* it was said */
            return true;
        mos_buf_printf(&b, "*\"root=%s \"*) next=%s ;;\n", root, other->def->r.name);
    }
    mos_buf_printf(&b,
                   "*) echo \"It is not known which entry runs.\" >&2; exit 1 ;;\nesac\n"
                   "%s \"$next\" && %s && echo \"Entry $next starts next.\"\n",
                   form->chooses, form->confirms);
    return system_put(w, "usr/sbin/other-slot", 0755, 0, mos_buf_string(&b));
}

bool mos_plan_stream_system(struct mos_plan *plan, const struct mos_region_plan *region,
                            const struct mos_sink *sink) {
    struct system_writer w = {plan, region, sink, plan->ctx->arena, NULL};
    const struct mos_system *s = plan->board->system;
    const char *host = s ? mos_text_or(s->host_name, plan->board->r.name) : plan->board->r.name;
    if (!system_put(&w, "etc/hostname", 0644, 0, mos_printf(w.arena, "%s\n", host)))
        return false;
    if (!s)
        return true;
    return (!s->mounts.count || put_mounts(&w, s)) &&
           (!mos_true(s->loader_access) || put_loader_access(&w)) &&
           (!s->users.count || put_users(&w, s)) &&
           (!s->log_in || system_put_log_in(&w, s->log_in)) &&
           (!mos_has(s->confirm) || put_confirm(&w, s->confirm)) &&
           (!mos_true(s->other_slot) || put_other_slot(&w)) && system_put_first_start(&w, s) &&
           system_put_network(&w, s) && system_put_time_zone(&w, s) &&
           (!w.inittab || system_put_edited(&w, "etc/inittab", 0644, w.inittab));
}
