/* The mount table against the layout and what the root volume holds. */
#include "rules/rules.h"

#include "base/text.h"

#include <string.h>

struct mounts_view {
    const struct mos_plan *plan;
    const struct mos_mount *m;
    struct mos_findings *list;
};

static struct mos_finding *wrong(const struct mounts_view *v, struct mos_place place,
                                 const char *text, const char *remedy) {
    struct mos_finding *f =
        mos_find(v->list, MOS_RULE_VOLUME_MOUNTS, "Mount %s: %s.", v->m->r.name, text);
    mos_finding_at(v->list, f, place);
    mos_finding_try(v->list, f, "%s", remedy);
    return f;
}

static void check_source(const struct mounts_view *v) {
    const struct mos_region_plan *r = mos_plan_region(v->plan, v->m->r.name);
    struct mos_arena *arena = v->plan->ctx->arena;
    if (mos_has(v->m->what)) {
        if (strncmp(v->m->what->text, "/dev/sd", 7) == 0 ||
            strncmp(v->m->what->text, "/dev/hd", 7) == 0) {
            struct mos_finding *f = wrong(
                v, v->m->what->place,
                mos_printf(arena, "%s may be another device at the next start", v->m->what->text),
                "Name the mount after a region, or state PARTUUID=… or LABEL=….");
            f->severity = MOS_SEVERITY_WARNING;
        }
        return;
    }
    if (!r && mos_plan_has_slots(v->plan, v->m->r.name)) {
        if (strcmp(v->m->at->text, "/") == 0)
            return; /* the one that was started */
        wrong(
            v, v->m->r.key_place,
            mos_printf(arena, "%s has slots, and nobody says which of them is meant", v->m->r.name),
            mos_printf(arena, "Name the mount %s-a or %s-b, or set at: / for the running one.",
                       v->m->r.name, v->m->r.name));
        return;
    }
    if (!r && !v->m->kind)
        wrong(v, v->m->r.key_place, "there is no region of that name",
              "Write the name of a region, or what: and kind: for another file system.");
    else if (r && !r->number && !r->def->r.broken)
        mos_finding_at(v->list,
                       wrong(v, v->m->r.key_place, "its region is no partition",
                             "Give the region a number in the partition table."),
                       r->def->r.key_place);
    else if (r && !r->fs && !r->strange_fs && !r->def->r.broken)
        mos_finding_at(v->list,
                       wrong(v, v->m->r.key_place, "its region holds no file system",
                             "Add volume: {kind: ext4} to that region."),
                       r->def->r.key_place);
}

static void check_point(const struct mounts_view *v, const struct mos_region_plan *root) {
    struct mos_buf buffer = {.arena = v->plan->ctx->arena};
    const char *path = mos_entry_path(&buffer, v->m->at->text);
    uint32_t index;
    if (v->m->at->text[0] != '/' || !path) {
        wrong(v, v->m->at->place, "a mount point is an absolute path", "Set at: /data.");
        return;
    }
    if (!root || !root->volume || !*path)
        return;
    if (mos_inv_find(root->volume->inventory, path, &index)) {
        uint8_t type = mos_inv_node(root->volume->inventory, index)->type;
        if (type != MOS_ENTRY_FOLDER && type != MOS_ENTRY_LINK)
            mos_finding_at(v->list,
                           wrong(v, v->m->at->place,
                                 mos_printf(v->plan->ctx->arena, "%s of %s is no folder",
                                            v->m->at->text, root->name),
                                 "Choose another mount point, or bring a folder in its place."),
                           root->def->r.key_place);
        return;
    }
    /* a link on the way leads somewhere else: not for this rule to follow */
    char *part = mos_strdup(v->plan->ctx->arena, path);
    for (char *slash; (slash = strrchr(part, '/'));) {
        *slash = 0;
        if (mos_inv_find(root->volume->inventory, part, &index))
            if (mos_inv_node(root->volume->inventory, index)->type == MOS_ENTRY_LINK)
                return;
    }
    struct mos_finding *f =
        wrong(v, v->m->at->place,
              mos_printf(v->plan->ctx->arena, "%s has no folder %s", root->name, v->m->at->text),
              "Bring the folder with a fill, or mount it where there is one.");
    mos_finding_at(v->list, f, root->def->r.key_place);
    mos_finding_why(v->list, f, "A read-only root cannot make it either.");
}

/* ---- kind and options ---- */

static void check_kind(const struct mounts_view *v) {
    const struct mos_region_plan *r = mos_plan_region(v->plan, v->m->r.name);
    const char *kind = mos_text_or(v->m->kind, "auto");
    if (!r || !r->fs || !r->fs->kernel || strcmp(kind, "auto") == 0 ||
        strcmp(kind, r->fs->kernel) == 0 ||
        (r->fs->kernel_also && strcmp(r->fs->kernel_also, kind) == 0))
        return;
    struct mos_finding *f =
        wrong(v, v->m->kind->place,
              mos_printf(v->plan->ctx->arena, "it is mounted as %s, and region %s is %s", kind,
                         r->name, r->fs->name),
              "Remove kind: it follows from the region.");
    mos_finding_at(v->list, f, r->def->volume->kind->place);
    mos_finding_why(v->list, f, "The mount fails, and the start with it.");
}

/* Options of mount(8) and of the kernel for all file systems, and those of one. */
static const char *const for_all[] = {
    "defaults", "ro",         "rw",           "noatime", "nodiratime", "relatime", "strictatime",
    "lazytime", "nodev",      "dev",          "nosuid",  "suid",       "noexec",   "exec",
    "sync",     "async",      "dirsync",      "auto",    "noauto",     "nofail",   "user",
    "users",    "nouser",     "group",        "owner",   "_netdev",    "remount",  "atime",
    "diratime", "iversion",   "silent",       "loud",    "bind",       "rbind",    "mand",
    "nomand",   "noiversion", "nostrictatime"};

enum { FOR_ALL = sizeof for_all / sizeof *for_all };

static size_t count_of(const char *const *list) {
    size_t n = 0;
    while (list && list[n])
        n++;
    return n;
}

static bool is_one_of(const char *const *list, size_t count, const char *option) {
    for (size_t i = 0; i < count; i++)
        if (strcmp(list[i], option) == 0)
            return true;
    return false;
}

/* A file system that has an option of this name; NULL: none, as far as is known. */
static const struct mos_fs_driver *owner_of(const char *option) {
    const struct mos_fs_driver *d;
    for (size_t i = 0; (d = mos_fs_at(i)); i++)
        if (is_one_of(d->options, count_of(d->options), option))
            return d;
    return NULL;
}

static void check_option(const struct mounts_view *v, const struct mos_value *x,
                         const struct mos_region_plan *r) {
    struct mos_arena *arena = v->plan->ctx->arena;
    const char *name = mos_strndup(arena, x->text, strcspn(x->text, "="));
    const struct mos_fs_driver *owner = owner_of(name);
    size_t own = count_of(r->fs->options);
    if (is_one_of(for_all, FOR_ALL, name) || strncmp(name, "x-", 2) == 0 ||
        strcmp(name, "comment") == 0 || strchr(x->text, ',') || strcmp(name, "context") == 0 ||
        !r->fs->options || is_one_of(r->fs->options, own, name))
        return;
    const char *near = mos_near(name, for_all, FOR_ALL);
    near = near ? near : mos_near(name, r->fs->options, own);
    struct mos_finding *f =
        wrong(v, x->place,
              owner ? mos_printf(arena, "%s is an option of %s, and region %s is %s", name,
                                 owner->kernel, r->name, r->fs->name)
                    : mos_printf(arena, "nothing is known of an option %s", name),
              near ? mos_printf(arena, "Write %s.", near) : "Remove it.");
    if (!owner)
        f->severity = MOS_SEVERITY_WARNING;
    else
        mos_finding_at(v->list, f, r->def->volume->kind->place);
    mos_finding_why(v->list, f, "The kernel refuses a mount with an option that it does not know.");
}

static void check_options(const struct mounts_view *v) {
    const struct mos_region_plan *r = mos_plan_region(v->plan, v->m->r.name);
    for (size_t i = 0; r && r->fs && r->fs->kernel && i < v->m->options.count; i++)
        if (mos_has(v->m->options.items[i]))
            check_option(v, v->m->options.items[i], r);
}

void mos_rule_mounts(const struct mos_plan *plan) {
    const struct mos_system *s = plan->board->system;
    const struct mos_region_plan *root = mos_plan_root(plan);
    for (size_t i = 0; s && i < s->mounts.count && !mos_findings_full(&plan->ctx->findings); i++) {
        struct mounts_view v = {plan, s->mounts.items[i], &plan->ctx->findings};
        if (v.m->r.broken || !mos_has(v.m->at))
            continue;
        check_source(&v);
        check_point(&v, root);
        check_kind(&v);
        check_options(&v);
        for (size_t k = 0; k < i && !mos_findings_full(v.list); k++) {
            const struct mos_mount *o = s->mounts.items[k];
            if (mos_has(o->at) && strcmp(o->at->text, v.m->at->text) == 0) {
                struct mos_finding *f = wrong(&v, v.m->at->place, "its mount point is used twice",
                                              "Choose another mount point for one of them.");
                mos_finding_at(v.list, f, o->at->place);
            }
        }
    }
}
