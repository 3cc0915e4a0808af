/* A ramdisk that keeps the root for itself, beside arguments that name another one. */
#include "rules/rules.h"

#include "base/text.h"
#include "plan/bytes.h"
#include "store/store.h"

#include <ctype.h>
#include <string.h>

static const struct mos_argument *argument(const struct mos_entry_plan *e, const char *name) {
    return mos_named_get(&e->def->arguments, name);
}

/* Words without which a script does not hand over to another root. */
static bool goes_on(const char *script) {
    static const char *const words[] = {"switch_root", "pivot_root", "run-init", "chroot",
                                        "kexec",       "--move",     "-M ",      "exec "};
    for (size_t i = 0; i < sizeof words / sizeof *words; i++)
        if (strstr(script, words[i]))
            return true;
    return false;
}

/* Keys of the store are names of files. */
static const char *path_word(struct mos_arena *arena, const char *path) {
    char *word = mos_strdup(arena, path);
    for (char *p = word; *p; p++)
        if (!isalnum((unsigned char)*p))
            *p = '-';
    return word;
}

/* Is its first program a script that stays where it is?  What is not text nobody can tell. */
static bool stays(const struct mos_plan *plan, const struct mos_piece_plan *p, const char *path) {
    struct mos_arena *arena = plan->ctx->arena;
    struct mos_buf text = {.arena = arena};
    char hex[65], *kept;
    size_t length;
    const char *inside = path + strspn(path, "/");
    mos_sha256_hex(p->sha256, hex);
    const char *key = mos_printf(arena, "ramdisk-stays-%s-%s", path_word(arena, inside), hex);
    if (p->hashed && mos_store_get(plan->ctx, key, &kept, &length) && length == 1)
        return *kept == '+';
    if (!mos_plan_ramdisk_texts(plan->self, p, &inside, 1, &text))
        return false;
    const char *script = mos_buf_string(&text);
    const char *shell = strstr(script, "sh");
    bool is_shell = strncmp(script, "#!", 2) == 0 && shell && shell < mos_next_line(script);
    bool result = is_shell && !goes_on(script);
    if (p->hashed)
        mos_store_put(plan->ctx, key, result ? "+" : "-", 1);
    return result;
}

void mos_rule_ramdisk_root(const struct mos_plan *plan) {
    struct mos_findings *list = &plan->ctx->findings;
    for (size_t i = 0; i < plan->entries.count; i++) {
        const struct mos_entry_plan *e = mos_vec_pointer(&plan->entries, i);
        const struct mos_argument *root = argument(e, "root"), *first = argument(e, "rdinit");
        const char *path = first && first->values.count && mos_has(first->values.items[0])
                               ? first->values.items[0]->text
                               : "/init";
        if (!root || !root->values.count || !mos_has(root->values.items[0]) ||
            !mos_plan_is_there(e->ramdisk) || !stays(plan, e->ramdisk, path))
            continue;
        struct mos_finding *f = mos_find(
            list, MOS_RULE_BOOT_ARGUMENTS,
            "Entry %s names a root, and its ramdisk's %s never goes there.", e->def->r.name, path);
        f->severity = MOS_SEVERITY_WARNING;
        mos_finding_at(list, f, root->values.items[0]->place);
        mos_finding_at(list, f, e->def->ramdisk ? e->def->ramdisk->place : e->def->r.key_place);
        mos_finding_why(list, f,
                        "Where a ramdisk has its first program, that program decides: the "
                        "kernel itself mounts no root.");
        mos_finding_try(list, f, "Remove ramdisk: from the entry, or end %s with switch_root.",
                        path);
    }
}
