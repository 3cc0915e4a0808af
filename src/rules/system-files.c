/* The root as a system: folders, users, log-ins and services that need each other. */
#include "rules/rules.h"

#include "base/text.h"
#include "plan/bytes.h"

#include <string.h>

struct system_files_view {
    const struct mos_plan *plan;
    const struct mos_system *s; /* NULL: nothing is said about it */
    const struct mos_region_plan *root;
    const struct mos_inventory *inv;
    struct mos_findings *list;
    struct mos_arena *arena;
};

static bool is_there(const struct system_files_view *v, const char *path) {
    return mos_inv_has(v->inv, v->arena, path);
}

static struct mos_place own_place(const struct system_files_view *v) {
    return v->root->def->r.key_place;
}

/* ---- folders ---- */

static void check_folders(const struct system_files_view *v) {
    static const struct {
        const char *path, *why;
        bool dead;
    } folders[] = {
        {"dev", "The kernel has no place for its device nodes: no program has a console.", true},
        {"proc", "What starts the system mounts it there, and little works without.", false},
        {"sys", "What starts the system mounts it there, and little works without.", false}};
    for (size_t i = 0; i < sizeof folders / sizeof *folders; i++) {
        if (is_there(v, folders[i].path))
            continue;
        struct mos_finding *f =
            mos_find(v->list, MOS_RULE_BOOT_FOLDER_MISSING, "The root %s has no folder /%s.",
                     v->root->name, folders[i].path);
        mos_finding_at(v->list, f, own_place(v));
        mos_finding_why(v->list, f, "%s", folders[i].why);
        mos_finding_try(v->list, f, "Add the folder to what fills the root.");
        if (!folders[i].dead)
            f->severity = MOS_SEVERITY_WARNING;
        return; /* one stands for all: the root was made without them */
    }
}

/* Who may go through the root and the folders that everybody needs? */
static void check_doors(const struct system_files_view *v) {
    static const char *const paths[] = {"", "usr", "bin", "usr/bin", "etc", "lib", "usr/lib"};
    for (size_t i = 0; i < sizeof paths / sizeof *paths; i++) {
        uint32_t index;
        if (!mos_inv_find(v->inv, paths[i], &index))
            continue;
        const struct mos_inv_node *n = mos_inv_node(v->inv, index);
        bool closed = (n->mode & 0011) != 0011;
        if (n->type != MOS_ENTRY_FOLDER || n->implied || (!closed && !n->uid))
            continue;
        struct mos_finding *f =
            closed
                ? mos_find(v->list, MOS_RULE_BOOT_ROOT_CLOSED,
                           "/%s of root %s has the mode %04o: only its owner may go in.", paths[i],
                           v->root->name, n->mode & 07777u)
                : mos_find(v->list, MOS_RULE_BOOT_ROOT_CLOSED, "/%s of root %s belongs to user %u.",
                           paths[i], v->root->name, n->uid);
        mos_finding_at(v->list, f, mos_plan_fill_at(v->root, n->fill)->r.key_place);
        mos_finding_at(v->list, f, own_place(v));
        mos_finding_why(v->list, f, "%s",
                        closed ? "Log-ins and services that do not run as root fail."
                               : "Whoever has that number may replace what the system runs.");
        mos_finding_try(v->list, f, "%s",
                        closed ? "Set the mode to 0755 in what fills the root."
                               : "Use an archive that was packed with owner 0:0.");
        return;
    }
}

/* ---- users ---- */

static bool has_log_in(const struct mos_user *u) {
    return !mos_true(u->locked) && (u->password_hash || u->password_file);
}

static void check_users(const struct system_files_view *v) {
    for (size_t i = 0; i < v->s->users.count; i++) {
        const struct mos_user *u = v->s->users.items[i];
        if (u->r.broken)
            continue;
        if (mos_has(u->shell) && u->shell->text[0] == '/' && !is_there(v, u->shell->text)) {
            struct mos_finding *f = mos_find(v->list, MOS_RULE_ACCESS_NO_SHELL,
                                             "User %s has the shell %s, which is not in root %s.",
                                             u->r.name, u->shell->text, v->root->name);
            mos_finding_at(v->list, f, u->shell->place);
            mos_finding_at(v->list, f, own_place(v));
            mos_finding_why(v->list, f, "Each log-in ends at once.");
            mos_finding_try(v->list, f, "Set shell: %s, or add the program to the root.",
                            is_there(v, "/bin/bash") ? "/bin/bash" : "/bin/sh");
        }
        for (size_t k = 0; k < i && mos_has(u->id); k++) {
            const struct mos_user *o = v->s->users.items[k];
            if (!mos_has(o->id) || o->id->number != u->id->number)
                continue;
            struct mos_finding *f =
                mos_find(v->list, MOS_RULE_ACCESS_SAME_ID, "Users %s and %s have one number, %s.",
                         o->r.name, u->r.name, u->id->text);
            mos_finding_at(v->list, f, u->id->place);
            mos_finding_at(v->list, f, o->id->place);
            mos_finding_why(v->list, f,
                            "To the kernel they are one: each owns what the other owns.");
            mos_finding_try(v->list, f, "Give %s a number of its own.", u->r.name);
        }
    }
}

/* Users who could log in, and a place where they can: one is of no use without the other. */
static void check_log_in(const struct system_files_view *v) {
    const struct mos_user *with = NULL;
    bool keys = false, any = v->s->users.count != 0;
    for (size_t i = 0; i < v->s->users.count; i++) {
        const struct mos_user *u = v->s->users.items[i];
        with = with ? with : has_log_in(u) ? u : NULL;
        keys |= u->keys.count != 0;
        if (u->r.broken)
            return;
    }
    bool has_console = !mos_board_is_mute(v->plan->board);
    struct mos_finding *f;
    if (v->s->log_in && any && !with) {
        f = mos_find(v->list, MOS_RULE_ACCESS_LOG_IN,
                     "There is a log-in on the console, and no user who could use it.");
        mos_finding_at(v->list, f, v->s->log_in->r.key_place);
        mos_finding_at(v->list, f, ((const struct mos_user *)v->s->users.items[0])->r.key_place);
        mos_finding_why(v->list, f, "Every user is locked, or has no password.");
        mos_finding_try(v->list, f, "Give a user a password-hash, or remove log-in.");
    } else if (has_console && !v->s->log_in && with && !keys &&
               !mos_plan_text(v->root, "etc/inittab") && !is_there(v, "usr/lib/systemd/systemd") &&
               !is_there(v, "lib/systemd/systemd") && !is_there(v, "usr/sbin/sshd") &&
               !is_there(v, "etc/init.d")) {
        f = mos_find(v->list, MOS_RULE_ACCESS_LOG_IN,
                     "User %s has a password, and there is no place to log in.", with->r.name);
        mos_finding_at(v->list, f, with->r.key_place);
        mos_finding_at(v->list, f, own_place(v));
        mos_finding_why(v->list, f,
                        "Nothing is stated, and the root starts nothing that is known.");
        mos_finding_try(v->list, f, "Set system: {log-in: inittab}, or log-in: systemd.");
    }
}

/* ---- programs that the system is to run ---- */

static void check_systemd(const struct system_files_view *v) {
    const struct mos_value *asks[] = {v->s->log_in ? v->s->log_in->by : NULL, v->s->confirm,
                                      v->s->first_start ? v->s->first_start->by : NULL,
                                      v->s->network ? v->s->network->by : NULL};
    static const char *const as[] = {"The log-in", "What confirms a start", "The first start",
                                     "The network"};
    if (is_there(v, "usr/lib/systemd/systemd") || is_there(v, "lib/systemd/systemd"))
        return;
    for (size_t i = 0; i < sizeof asks / sizeof *asks; i++) {
        if (mos_starter_of(asks[i]) != MOS_STARTER_SYSTEMD)
            continue;
        struct mos_finding *f =
            mos_find(v->list, MOS_RULE_BOOT_SYSTEM_PROGRAM,
                     "%s is left to systemd, which is not in root %s.", as[i], v->root->name);
        mos_finding_at(v->list, f, asks[i]->place);
        mos_finding_at(v->list, f, own_place(v));
        mos_finding_why(v->list, f, "It never happens, and nothing says so.");
        mos_finding_try(v->list, f, "Set it to inittab, or use a root with systemd.");
        return;
    }
}

/* Is a unit started?  Something links to it from a folder *.wants or *.requires. */
static bool is_enabled(const struct system_files_view *v, const char *unit) {
    for (uint32_t i = 1; i < v->inv->count; i++) {
        const struct mos_inv_node *n = mos_inv_node(v->inv, i);
        const char *folder = mos_inv_node(v->inv, n->parent)->name;
        size_t length = folder ? strlen(folder) : 0;
        if (n->type == MOS_ENTRY_LINK && strcmp(n->name, unit) == 0 &&
            ((length > 6 && strcmp(folder + length - 6, ".wants") == 0) ||
             (length > 9 && strcmp(folder + length - 9, ".requires") == 0)))
            return true;
    }
    return false;
}

static void check_units(const struct system_files_view *v) {
    struct mos_vec units = mos_vec_make(v->arena, sizeof(struct mos_unit_fact));
    uint32_t folder;
    if (!mos_inv_find(v->inv, "etc/systemd/system", &folder) || !folder ||
        !mos_plan_units(v->plan->self, v->root, folder, &units))
        return;
    for (size_t i = 0; i < units.count; i++) {
        const struct mos_unit_fact *u = mos_vec_at(&units, i);
        uint32_t index;
        const char *path = mos_printf(v->arena, "etc/systemd/system/%s", u->path);
        if (strchr(u->path, '/') || is_there(v, u->program) || !is_enabled(v, u->path) ||
            !mos_inv_find(v->inv, path, &index))
            continue;
        struct mos_finding *f = mos_find(v->list, MOS_RULE_BOOT_SYSTEM_PROGRAM,
                                         "Service %s starts %s, which is not in root %s.", u->path,
                                         u->program, v->root->name);
        mos_finding_at(v->list, f,
                       mos_plan_fill_at(v->root, mos_inv_node(v->inv, index)->fill)->r.key_place);
        mos_finding_at(v->list, f,
                       mos_place_thing(mos_printf(v->arena, "/%s in %s", path, v->root->name)));
        mos_finding_why(v->list, f, "It fails at each start.");
        mos_finding_try(v->list, f, "Add the program to the root, or remove the service.");
        return;
    }
}

void mos_rule_system_files(const struct mos_plan *plan) {
    struct system_files_view v = {.plan = plan,
                                  .s = plan->board->system,
                                  .root = mos_plan_root(plan),
                                  .list = &plan->ctx->findings,
                                  .arena = plan->ctx->arena};
    if (!v.root || !v.root->volume || !v.root->counted || v.root->fs->no_owners)
        return;
    v.inv = v.root->volume->inventory;
    if (!mos_inv_is_system(v.inv, v.arena))
        return;
    check_folders(&v);
    check_doors(&v);
    check_units(&v);
    if (!v.s || v.s->r.broken)
        return;
    check_users(&v);
    check_log_in(&v);
    check_systemd(&v);
}
