/* What is made, and taken away, when a board starts for the first time. */
#include "rules/rules.h"

#include "base/text.h"
#include "plan/first-start.h"

#include <string.h>

struct first_view {
    const struct mos_plan *plan;
    const struct mos_system *s;
    const struct mos_first_start *f; /* NULL: none is stated */
    const struct mos_region_plan *root;
    const struct mos_inventory *inv;
    struct mos_findings *list;
    struct mos_arena *arena;
};

static bool is_there(const struct first_view *v, const char *path) {
    return mos_inv_has(v->inv, v->arena, path);
}

static struct mos_finding *wrong(const struct first_view *v, struct mos_place place,
                                 const char *message) {
    struct mos_finding *f = mos_find(v->list, MOS_RULE_ACCESS_FIRST_START, "%s", message);
    mos_finding_at(v->list, f, place);
    return f;
}

static bool is_first(const struct mos_user *u) {
    return mos_user_span_of(u->until) == MOS_USER_FIRST_START;
}

static const struct mos_user *first_user(const struct first_view *v) {
    for (size_t i = 0; i < v->s->users.count; i++)
        if (is_first(v->s->users.items[i]))
            return v->s->users.items[i];
    return NULL;
}

static bool has_ssh_server(const struct first_view *v) {
    return is_there(v, "/usr/sbin/sshd");
}

/* Is / mounted so that nothing can be written? */
static const struct mos_value *read_only_option(const struct first_view *v) {
    for (size_t i = 0; i < v->s->mounts.count; i++) {
        const struct mos_mount *m = v->s->mounts.items[i];
        for (size_t k = 0; mos_has(m->at) && strcmp(m->at->text, "/") == 0 && k < m->options.count;
             k++)
            if (mos_has(m->options.items[k]) && strcmp(m->options.items[k]->text, "ro") == 0)
                return m->options.items[k];
    }
    return NULL;
}

static void check_writable(const struct first_view *v) {
    const struct mos_value *option = read_only_option(v);
    if (!v->root->fs->read_only && !option)
        return;
    struct mos_finding *f =
        wrong(v, v->f->r.key_place,
              mos_printf(v->arena, "The first start writes to root %s, which is %s.", v->root->name,
                         option ? "mounted read-only" : v->root->fs->name));
    mos_finding_at(v->list, f, option ? option->place : v->root->def->r.key_place);
    mos_finding_why(v->list, f,
                    "Keys and identifier cannot be kept, and its users cannot be removed.");
    mos_finding_try(v->list, f, "%s",
                    option ? "Remove the option ro of that mount."
                           : "Use kind: ext4 for that root, or remove first-start.");
}

/* What is left to a program of the root must be one. */
static void check_program(const struct first_view *v, const struct mos_value *by, const char *key,
                          const char *what) {
    if (!mos_has(by) || strcmp(by->text, "made") == 0 || is_there(v, by->text))
        return;
    struct mos_finding *f = wrong(
        v, by->place,
        mos_printf(v->arena, "%s to %s, which is not in root %s.", what, by->text, v->root->name));
    mos_finding_at(v->list, f, v->root->def->r.key_place);
    mos_finding_why(v->list, f, "The first start would stop there.");
    mos_finding_try(v->list, f, "Set %s: made, or add the program to the root.", key);
}

static void check_keys(const struct first_view *v) {
    if (!mos_first_start_host_keys(v->f) || (!v->f->host_keys && !has_ssh_server(v)) ||
        mos_first_start_makes_keys(v->inv, v->arena))
        return;
    struct mos_finding *f =
        wrong(v, v->f->host_keys ? v->f->host_keys->place : v->f->r.key_place,
              mos_printf(v->arena, "Root %s has no program that makes host keys.", v->root->name));
    mos_finding_at(v->list, f, v->root->def->r.key_place);
    mos_finding_why(v->list, f, "Nobody could log in over the network.");
    mos_finding_try(
        v->list, f,
        "Add /usr/bin/ssh-keygen to the root, or set host-keys: to the program of it that "
        "makes them.");
}

static void check_users(const struct first_view *v) {
    const struct mos_user *u = first_user(v);
    bool root = u && strcmp(u->r.name, "root") == 0;
    if (!u || (v->f && !root))
        return;
    struct mos_finding *f =
        wrong(v, u->until->place,
              root ? "User root cannot be removed after the first start."
                   : mos_printf(v->arena, "User %s is for the first start, and nothing ends that.",
                                u->r.name));
    mos_finding_why(v->list, f, "%s",
                    root ? "Everything on the board belongs to it."
                         : "The user would stay on every board.");
    mos_finding_try(v->list, f, "%s",
                    root ? "Use another user for the first start, and set locked: yes for root."
                         : "Add system: {first-start: inittab}, or first-start: systemd.");
}

/* Names of units and programs that make them: then nobody needs to be told. */
static bool something_makes_keys(const struct first_view *v) {
    for (uint32_t i = 1; i < v->inv->count; i++) {
        const struct mos_inv_node *n = mos_inv_node(v->inv, i);
        const char *parent = mos_inv_node(v->inv, n->parent)->name;
        if (n->type == MOS_ENTRY_FOLDER)
            continue;
        if ((strstr(n->name, "keygen") && strcmp(n->name, "ssh-keygen") != 0 &&
             strncmp(n->name, "ssh-keygen.", 11) != 0) ||
            (parent && strcmp(parent, "init.d") == 0 && strstr(n->name, "ssh")))
            return true;
    }
    return false;
}

static bool has_host_keys(const struct first_view *v) {
    static const char *const paths[] = {"etc/ssh/ssh_host_ed25519_key",
                                        "etc/ssh/ssh_host_ecdsa_key", "etc/ssh/ssh_host_rsa_key"};
    for (size_t i = 0; i < sizeof paths / sizeof *paths; i++)
        if (is_there(v, paths[i]))
            return true;
    return false;
}

static void check_server(const struct first_view *v) {
    if (v->f || !is_there(v, "/usr/sbin/sshd") || has_host_keys(v) || something_makes_keys(v))
        return;
    struct mos_finding *f = mos_find(
        v->list, MOS_RULE_ACCESS_NO_HOST_KEY,
        "Root %s has an SSH server without host keys, and nothing makes them.", v->root->name);
    mos_finding_at(v->list, f, v->root->def->r.key_place);
    mos_finding_at(v->list, f,
                   mos_place_thing(mos_printf(v->arena, "/usr/sbin/sshd in %s", v->root->name)));
    mos_finding_why(v->list, f,
                    "The server ends at once: packages make them when they are "
                    "installed, and nothing was installed here.");
    mos_finding_try(v->list, f, "Add system: {first-start: %s}.",
                    is_there(v, "lib/systemd/systemd") || is_there(v, "usr/lib/systemd/systemd")
                        ? "systemd"
                        : "inittab");
}

static void check_machine_id(const struct first_view *v) {
    const struct mos_text_file *t = mos_plan_text(v->root, "etc/machine-id");
    if (!t || t->length < 32 || v->f)
        return;
    struct mos_finding *f = mos_find(v->list, MOS_RULE_ACCESS_MACHINE_ID,
                                     "The image brings /etc/machine-id, the same for every board.");
    mos_finding_at(v->list, f, mos_plan_fill_at(v->root, t->fill)->r.key_place);
    mos_finding_at(v->list, f,
                   mos_place_thing(mos_printf(v->arena, "/etc/machine-id in %s", v->root->name)));
    mos_finding_why(v->list, f, "Address servers and logs take all boards for one.");
    mos_finding_try(v->list, f,
                    "Add except: [etc/machine-id] to that fill, and system: "
                    "{first-start: inittab} or first-start: systemd.");
}

static bool has_password(const struct mos_user *u) {
    return !mos_true(u->locked) && (mos_has(u->password_hash) || mos_has(u->password_file));
}

/* In a plan of any board: nothing of the root is needed for it. */
void mos_rule_first_users(const struct mos_plan *plan) {
    const struct mos_system *s = plan->board->system;
    for (size_t i = 0; s && plan->board->field && i < s->users.count; i++) {
        const struct mos_user *u = s->users.items[i];
        if (!is_first(u) || !has_password(u))
            continue;
        struct mos_findings *list = &plan->ctx->findings;
        struct mos_finding *f = mos_find(
            list, MOS_RULE_ACCESS_FIRST_USER,
            "User %s of the first start logs in with one password on all boards.", u->r.name);
        mos_finding_at(list, f, u->until->place);
        mos_finding_at(list, f, (u->password_hash ? u->password_hash : u->password_file)->place);
        mos_finding_why(list, f, "Who is first at a board that was shipped is in.");
        mos_finding_try(list, f,
                        "Set locked: yes and keys: for it, or leave it out of what ships.");
    }
}

void mos_rule_first_start(const struct mos_plan *plan) {
    static const struct mos_system none;
    struct first_view v = {.plan = plan,
                           .s = plan->board->system ? plan->board->system : &none,
                           .root = mos_plan_root(plan),
                           .list = &plan->ctx->findings,
                           .arena = plan->ctx->arena};
    v.f = v.s->first_start;
    if ((v.f && v.f->r.broken) || v.s->r.broken)
        return;
    check_users(&v);
    if (!v.root || !v.root->volume || !v.root->counted || v.root->fs->no_owners)
        return;
    v.inv = v.root->volume->inventory;
    if (v.f) {
        check_writable(&v);
        check_program(&v, v.f->host_keys, "host-keys", "Host keys are left");
        check_program(&v, v.f->machine_id, "machine-id", "The machine identifier is left");
        check_keys(&v);
    } else if (mos_inv_is_system(v.inv, v.arena)) {
        check_server(&v);
    }
    check_machine_id(&v);
}
