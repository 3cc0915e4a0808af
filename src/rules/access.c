/* Who can get in: what the files of the root volume and the definition say. */
#include "rules/rules.h"

#include "base/secret.h"
#include "base/text.h"
#include "plan/bytes.h"
#include "store/store.h"

#include <ctype.h>
#include <string.h>
#include <strings.h>

struct access_view {
    const struct mos_plan *plan;
    const struct mos_region_plan *root;
    const struct mos_piece_plan *ramdisk; /* it is looked at, not the root; NULL */
    struct mos_findings *list;
    struct mos_arena *arena;
};

/* Where a file of the root volume comes from. */
static struct mos_place place_of(const struct access_view *v, const struct mos_text_file *t,
                                 const char *user) {
    const struct mos_fill *f = mos_plan_fill_at(v->root, t->fill);
    const struct mos_system *s = v->plan->board->system;
    const struct mos_record *u =
        user && s && mos_fill_makes(f, MOS_MADE_SYSTEM) ? mos_named_get(&s->users, user) : NULL;
    return u ? u->key_place : f->r.key_place;
}

static struct mos_finding *find(const struct access_view *v, enum mos_rule_id rule,
                                const struct mos_text_file *t, const char *user,
                                const char *message) {
    struct mos_finding *f = mos_find(v->list, rule, "%s", message);
    const char *in =
        v->ramdisk ? mos_printf(v->arena, "ramdisk %s", v->ramdisk->def->r.name) : v->root->name;
    mos_finding_at(v->list, f, v->ramdisk ? v->ramdisk->def->r.key_place : place_of(v, t, user));
    mos_finding_at(v->list, f, mos_place_thing(mos_printf(v->arena, "/%s in %s", t->path, in)));
    return f;
}

/* ---- passwords ---- */

/* The password of a user as the archive has it; "": it cannot be read. */
static const char *password_again(const struct access_view *v, const struct mos_text_file *t,
                                  const char *user) {
    const char *line = mos_plan_text_again(v->plan, v->root, t);
    while (line && *line) {
        if (strcmp(mos_field(v->arena, line, 0), user) == 0)
            return mos_field(v->arena, line, 1);
        line = mos_next_line(line);
    }
    mos_vec_push_pointer(
        &v->plan->ctx->not_proved,
        mos_printf(v->arena, "the password of %s: its archive cannot be read again", user));
    return "";
}

/* Trying costs milliseconds a word: the answer is kept by hash. */
static const char *guess(const struct access_view *v, const struct mos_text_file *t,
                         const char *user, const char *hash) {
    const char *const words[] = {user,
                                 "root",
                                 "admin",
                                 "password",
                                 "toor",
                                 "1234",
                                 "12345678",
                                 "123456",
                                 "changeme",
                                 "default",
                                 v->plan->board->r.name};
    enum { WORDS = sizeof words / sizeof *words };
    uint8_t sum[MOS_SHA256_SIZE];
    char hex[65], *kept;
    size_t length;
    char *token = mos_strdup(v->arena, hash); /* what the cache may know of it */
    if (*hash != MOS_TOKEN)
        mos_text_token(hash, strlen(hash), token);
    const char *subject =
        mos_printf(v->arena, "guess-2/%s/%s/%s", v->plan->board->r.name, user, token);
    mos_sha256(subject, strlen(subject), sum);
    mos_sha256_hex(sum, hex);
    const char *key = mos_printf(v->arena, "password-%s", hex);
    if (mos_store_get(v->plan->ctx, key, &kept, &length) && length == 1)
        return kept[0] == '-' || kept[0] - 'a' >= WORDS || kept[0] < 'a' ? NULL
                                                                         : words[kept[0] - 'a'];
    char verdict = '-';
    if (*hash == MOS_TOKEN)
        hash = password_again(v, t, user);
    for (size_t i = 0; i < WORDS && verdict == '-'; i++)
        if (mos_password_fits(v->arena, words[i], hash))
            verdict = (char)('a' + i);
    mos_store_put(v->plan->ctx, key, &verdict, 1);
    return verdict == '-' ? NULL : words[verdict - 'a'];
}

static void check_password(const struct access_view *v, const struct mos_text_file *t,
                           const char *user, const char *hash) {
    if (!*hash) {
        struct mos_finding *f =
            find(v, MOS_RULE_ACCESS_EMPTY_PASSWORD, t, user,
                 mos_printf(v->arena, "User %s logs in without a password.", user));
        mos_finding_why(v->list, f, "Whoever reaches the console or the network is in.");
        if (v->ramdisk)
            mos_finding_try(v->list, f, "Write * for the password of %s in the ramdisk's /%s.",
                            user, t->path);
        else
            mos_finding_try(v->list, f,
                            "Set system: {users: {%s: {locked: yes}}}, or a password-hash for it.",
                            user);
        return;
    }
    if (*hash == '!' || *hash == '*' || (*hash != MOS_TOKEN && !mos_is_password_hash(hash)))
        return;
    const char *word = guess(v, t, user, hash);
    if (!word)
        return;
    struct mos_finding *f =
        find(v, MOS_RULE_ACCESS_DEFAULT_PASSWORD, t, user,
             mos_printf(v->arena, "The password of %s is one that anybody tries first.", user));
    mos_finding_why(v->list, f, "It was found among %d common words.", 11);
    if (v->ramdisk)
        mos_finding_try(v->list, f, "Write * for the password of %s in the ramdisk's /%s.", user,
                        t->path);
    else
        mos_finding_try(v->list, f,
                        "Set another password, or system: {users: {%s: {locked: yes}}}.", user);
}

static void check_shadow(const struct access_view *v, const struct mos_text_file *t) {
    for (const char *line = t ? t->text : NULL; line && *line;) {
        const char *user = mos_field(v->arena, line, 0);
        bool shadowed =
            strcmp(t->path, "etc/passwd") == 0 && strcmp(mos_field(v->arena, line, 1), "x") == 0;
        if (*user && line[strlen(user)] == ':' && !shadowed)
            check_password(v, t, user, mos_field(v->arena, line, 1));
        line = mos_next_line(line);
    }
}

static const char *const user_files[] = {"etc/shadow", "etc/passwd"};

/* The users of a ramdisk; in the store is only whether there is anything to say. */
static void check_ramdisk(const struct mos_plan *plan, const struct mos_piece_plan *p) {
    struct access_view v = {
        .plan = plan, .ramdisk = p, .list = &plan->ctx->findings, .arena = plan->ctx->arena};
    struct mos_buf texts[2] = {{.arena = v.arena}, {.arena = v.arena}};
    char hex[65], *kept;
    size_t length, before = v.list->items.count;
    mos_sha256_hex(p->sha256, hex);
    const char *key = mos_printf(v.arena, "ramdisk-users-%s-%s", plan->board->r.name, hex);
    if (p->hashed && mos_store_get(plan->ctx, key, &kept, &length) && length == 1 && *kept == '-')
        return;
    if (!mos_plan_ramdisk_texts(plan->self, p, user_files, 2, texts)) {
        mos_vec_push_pointer(
            &plan->ctx->not_proved,
            mos_printf(v.arena, "users of ramdisk %s: it cannot be read", p->def->r.name));
        return;
    }
    for (size_t i = 0; i < 2; i++) {
        struct mos_text_file t = {
            .path = user_files[i], .text = mos_buf_string(&texts[i]), .length = texts[i].length};
        check_shadow(&v, &t);
    }
    if (p->hashed && v.list->items.count == before)
        mos_store_put(plan->ctx, key, "-", 1);
}

static void check_ramdisks(const struct mos_plan *plan) {
    for (size_t i = 0; i < plan->pieces.count; i++) {
        const struct mos_piece_plan *p = mos_vec_pointer(&plan->pieces, i);
        bool used = false;
        for (size_t k = 0; k < plan->entries.count && !used; k++)
            used =
                ((const struct mos_entry_plan *)mos_vec_pointer(&plan->entries, k))->ramdisk == p;
        if (used && mos_plan_is_there(p))
            check_ramdisk(plan, p);
    }
}

/* ---- remote ---- */

static bool setting_is(const char *text, const char *name, const char *value) {
    size_t n = strlen(name), k = strlen(value);
    while (text && *text) {
        while (*text == ' ' || *text == '\t')
            text++;
        if (strncasecmp(text, name, n) == 0 &&
            (text[n] == ' ' || text[n] == '\t' || text[n] == '=')) {
            const char *p = text + n;
            while (*p == ' ' || *p == '\t' || *p == '=')
                p++;
            return strncasecmp(p, value, k) == 0 && (!p[k] || isspace((unsigned char)p[k]));
        }
        text = mos_next_line(text);
    }
    return false;
}

static void check_root_remote(const struct access_view *v) {
    const struct mos_text_file *t = mos_plan_text(v->root, "etc/ssh/sshd_config");
    if (!t || !t->text || !setting_is(t->text, "PermitRootLogin", "yes"))
        return;
    struct mos_finding *f = find(v, MOS_RULE_ACCESS_ROOT_REMOTE, t, NULL,
                                 "Root may log in over the network with a password.");
    mos_finding_why(v->list, f, "etc/ssh/sshd_config says PermitRootLogin yes.");
    mos_finding_try(v->list, f,
                    "Set PermitRootLogin prohibit-password there, and give a user a key.");
}

/* Links that start a service, whether its program is there yet or not. */
static bool check_links(const struct access_view *v) {
    static const char *const names[] = {"telnet.socket", "telnetd.service", "rsh.socket",
                                        "rlogin.socket", "tftp.socket",     "inetd-telnet.service"};
    const struct mos_inventory *inv = v->root->volume->inventory;
    for (uint32_t i = 1; i < inv->count; i++) {
        const struct mos_inv_node *n = mos_inv_node(inv, i);
        const char *folder = mos_inv_node(inv, n->parent)->name;
        size_t length = folder ? strlen(folder) : 0;
        for (size_t k = 0; k < sizeof names / sizeof *names; k++) {
            if (n->type != MOS_ENTRY_LINK || length < 6 ||
                strcmp(folder + length - 6, ".wants") != 0 || strcmp(n->name, names[k]) != 0)
                continue;
            struct mos_finding *f =
                mos_find(v->list, MOS_RULE_ACCESS_OPEN_SERVICE,
                         "A service without protection is started: %s.", n->name);
            mos_finding_at(v->list, f, mos_plan_fill_at(v->root, n->fill)->r.key_place);
            mos_finding_at(
                v->list, f,
                mos_place_thing(mos_printf(v->arena, "%s in %s", mos_inv_path(v->arena, inv, i),
                                           v->root->name)));
            mos_finding_why(v->list, f, "What it carries, passwords too, can be read on the way.");
            mos_finding_try(v->list, f, "Remove that link from the root.");
            return true;
        }
    }
    return false;
}

static void check_services(const struct access_view *v) {
    static const struct {
        const char *path, *word;
    } rows[] = {{"etc/inittab", "telnetd"},   {"etc/inetd.conf", "telnet"},
                {"etc/inetd.conf", "tftp"},   {"etc/inetd.conf", "ftp"},
                {"etc/inetd.conf", "shell"},  {"etc/init.d/S50telnet", "telnetd"},
                {"etc/init.d/rcS", "telnetd"}};
    for (size_t i = 0; i < sizeof rows / sizeof *rows; i++) {
        const struct mos_text_file *t = mos_plan_text(v->root, rows[i].path);
        const char *at = t && t->text ? strstr(t->text, rows[i].word) : NULL;
        if (!at)
            continue;
        const char *line = at;
        while (line > t->text && line[-1] != '\n')
            line--;
        if (*line == '#')
            continue;
        struct mos_finding *f = find(
            v, MOS_RULE_ACCESS_OPEN_SERVICE, t, NULL,
            mos_printf(v->arena, "A service without protection is started: %s.", rows[i].word));
        mos_finding_why(v->list, f, "What it carries, passwords too, can be read on the way.");
        mos_finding_try(v->list, f, "Remove it from /%s, or use a protected one.", rows[i].path);
        return;
    }
}

/* A private key that says who the board is: whatever its server calls the file. */
static bool is_host_key(const char *path) {
    const char *name = strrchr(path, '/') + 1; /* all of them lie below etc/ */
    size_t n = strlen(name);
    return strstr(name, "host") && strstr(name, "key") &&
           (n < 4 || strcmp(name + n - 4, ".pub") != 0);
}

static void check_host_keys(const struct access_view *v) {
    for (size_t i = 0; i < v->root->texts.count; i++) {
        const char *path = v->root->texts.items[i].key;
        const struct mos_text_file *t = is_host_key(path) ? mos_plan_text(v->root, path) : NULL;
        if (!t || !t->length)
            continue;
        struct mos_finding *f = find(v, MOS_RULE_ACCESS_HOST_KEY, t, NULL,
                                     "The image brings a host key, the same for every board.");
        mos_finding_why(v->list, f, "Whoever has one board can pose as each of them.");
        mos_finding_try(v->list, f,
                        "Add except: [%s] to the fill; the board makes its own at the first start.",
                        path);
        return;
    }
}

/* ---- the definition ---- */

static void check_host_name(const struct mos_plan *plan) {
    const struct mos_value *name = plan->board->system ? plan->board->system->host_name : NULL;
    if (!mos_has(name))
        return;
    const char *t = name->text;
    size_t n = strlen(t);
    bool good = n >= 1 && n <= 63 && t[0] != '-' && t[n - 1] != '-' &&
                strspn(t, "abcdefghijklmnopqrstuvwxyz0123456789-"
                          "ABCDEFGHIJKLMNOPQRSTUVWXYZ") == n;
    if (good)
        return;
    struct mos_finding *f = mos_find(&plan->ctx->findings, MOS_RULE_ACCESS_HOST_NAME,
                                     "%s cannot be a host name.", *t ? t : "An empty text");
    mos_finding_at(&plan->ctx->findings, f, name->place);
    mos_finding_why(&plan->ctx->findings, f,
                    "RFC 1123: letters, digits and inner hyphens, 1 to 63.");
    char *better = mos_strdup(plan->ctx->arena, t);
    for (char *p = better; *p; p++)
        if (!isalnum((unsigned char)*p))
            *p = '-';
    mos_finding_try(&plan->ctx->findings, f, "Write %s.",
                    *better && *better != '-' ? better : plan->board->r.name);
}

static void plain_secret(const struct mos_plan *plan, struct mos_place place, const char *what,
                         const char *remedy) {
    struct mos_finding *f = mos_find(&plan->ctx->findings, MOS_RULE_ACCESS_PLAIN_SECRET,
                                     "%s stands in plain text.", what);
    mos_finding_at(&plan->ctx->findings, f, place);
    mos_finding_why(&plan->ctx->findings, f, "Definitions are shared, and their history keeps it.");
    mos_finding_try(&plan->ctx->findings, f, "%s", remedy);
}

static void check_key_file(const struct mos_plan *plan, const struct mos_value *path) {
    char *data;
    size_t length;
    struct mos_error ignored = {0}, *saved = plan->ctx->error;
    const char *full = mos_workspace_path(plan->ctx, plan->board->root, path->text);
    if (!full || !mos_exists(plan->ctx, full))
        return; /* plan/system.c has said so */
    plan->ctx->error = &ignored;
    bool ok = mos_read_file(plan->ctx, full, 64 << 10, &data, &length);
    plan->ctx->error = saved;
    if (ok && strncmp(data, "-----BEGIN", 10) == 0)
        plain_secret(plan, path->place,
                     mos_printf(plan->ctx->arena, "The private key %s", path->text),
                     "Name the public key, and keep the private one out of the workspace.");
}

static void check_users(const struct mos_plan *plan) {
    const struct mos_system *s = plan->board->system;
    for (size_t i = 0; s && i < s->users.count; i++) {
        const struct mos_user *u = s->users.items[i];
        if (mos_has(u->password_hash) && *u->password_hash->text &&
            !strchr("!*", u->password_hash->text[0]) &&
            !mos_is_password_hash(u->password_hash->text))
            plain_secret(
                plan, u->password_hash->place,
                mos_printf(plan->ctx->arena, "The password of %s", u->r.name),
                "Set password-hash: to what \"openssl passwd -6\" prints, or use a password-file "
                "that is not shared.");
        for (size_t k = 0; k < u->keys.count; k++)
            if (mos_has(u->keys.items[k]))
                check_key_file(plan, u->keys.items[k]);
    }
}

static void check_secrets(const struct mos_plan *plan) {
    const struct mos_loader *l = plan->board->loader;
    check_users(plan);
    for (size_t i = 0; l && i < l->environments.count; i++) {
        const struct mos_environment *e = l->environments.items[i];
        for (size_t k = 0; k < e->values.count; k++) {
            const struct mos_variable *x = e->values.items[k];
            if (mos_has(x->value) && *x->value->text && mos_sounds_secret(x->r.name))
                plain_secret(plan, x->value->place,
                             mos_printf(plan->ctx->arena, "The loader variable %s", x->r.name),
                             "Set it on the board itself, or leave it out.");
        }
    }
    for (size_t i = 0; i < plan->settings.count; i++) {
        const struct mos_settings_plan *s = mos_vec_pointer(&plan->settings, i);
        for (size_t k = 0; k < s->lines.count; k++) {
            const struct mos_settings_line *x = mos_vec_at(&s->lines, k);
            if (*x->value && mos_sounds_secret(x->key))
                plain_secret(plan, x->place,
                             mos_printf(plan->ctx->arena, "%s of %s", x->key, s->path),
                             "Set it on the board itself, or leave it out.");
        }
    }
    const struct mos_boot *b = plan->board->boot;
    for (size_t i = 0; b && i < b->entries.count; i++) {
        const struct mos_boot_entry *e = b->entries.items[i];
        for (size_t k = 0; k < e->arguments.count; k++) {
            const struct mos_argument *a = e->arguments.items[k];
            if (a->values.count && mos_has(a->values.items[0]) && *a->values.items[0]->text &&
                mos_sounds_secret(a->r.name))
                plain_secret(
                    plan, a->values.items[0]->place,
                    mos_printf(plan->ctx->arena, "The kernel argument %s", a->r.name),
                    "Pass it another way: anybody on the board reads it in /proc/cmdline.");
        }
    }
}

void mos_rule_access(const struct mos_plan *plan) {
    check_host_name(plan);
    check_secrets(plan);
}

void mos_rule_access_files(const struct mos_plan *plan) {
    struct access_view v = {.plan = plan,
                            .root = mos_plan_root(plan),
                            .list = &plan->ctx->findings,
                            .arena = plan->ctx->arena};
    check_ramdisks(plan);
    if (!v.root || !v.root->volume)
        return;
    for (size_t i = 0; i < 2; i++) {
        const struct mos_text_file *t = mos_plan_text(v.root, user_files[i]);
        if (t)
            check_shadow(&v, t);
    }
    check_root_remote(&v);
    if (!check_links(&v))
        check_services(&v);
    check_host_keys(&v);
}
