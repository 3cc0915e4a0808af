/* The loader's commands: one table of tables; names may be cut short where that is unambiguous. */
#include "loaders/u-boot/inside.h"

#include "base/text.h"

#include <assert.h>
#include <string.h>

static const struct ub_command *const groups[] = {
    ub_commands_plain,  ub_commands_environment, ub_commands_storage, ub_commands_flash,
    ub_commands_memory, ub_commands_tree,        ub_commands_boot};
enum { GROUPS = sizeof groups / sizeof *groups };

/* Commands that exist and do nothing that matters here. */
static const char *const idle[] = {"mii",     "net",      "pci",       "dm",     "gpio",   "led",
                                   "i2c",     "blkcache", "coninfo",   "icache", "dcache", "bdinfo",
                                   "version", "wdt",      "regulator", "pmic",   NULL};

static bool is_listed(const char *const *names, const char *name, size_t length) {
    for (; names && *names; names++)
        if (strlen(*names) == length && strncmp(*names, name, length) == 0)
            return true;
    return false;
}

static const struct ub_command *find(const char *name, size_t length) {
    const struct ub_command *near = NULL;
    size_t count = 0;
    for (size_t g = 0; g < GROUPS; g++)
        for (const struct ub_command *c = groups[g]; c->name; c++) {
            if (strncmp(c->name, name, length) != 0)
                continue;
            if (!c->name[length])
                return c;
            near = c;
            count++;
        }
    return count == 1 ? near : NULL;
}

int ub_usage(struct sim *s, const char *name) {
    assert(name);
    sim_print(s, "%s - usage\n", name);
    sim_note_trouble(s,
                     mos_printf(s->arena, "%s is used wrongly: the loader prints its help", name));
    return 1;
}

static int run_command(struct sim *s, int argc, const char *const *argv) {
    assert(argc > 0 && argv[0]);
    const char *name = argv[0];
    size_t length = strcspn(name, ".");
    const struct ub_command *c = find(name, length);
    if (strchr(name, ';'))
        return sim_trouble(s, "Unknown command '%s' - try 'help' or use 'run' command", name);
    if (is_listed(s->rig->lacks, c ? c->name : name, c ? strlen(c->name) : length) ||
        (!c && !is_listed(idle, name, length)))
        return sim_trouble(s, "Unknown command '%s' - try 'help'", name);
    if (!c) {
        sim_unknown(s, "what the loader's command %s does", name);
        return 0;
    }
    static const char *const limited[] = {"setenv", "env",   "run",   "echo", "test",
                                          "booti",  "bootm", "bootz", "go",   NULL};
    if (s->rig->most_words && (unsigned)argc > s->rig->most_words &&
        is_listed(limited, c->name, strlen(c->name))) {
        sim_note_trouble(s,
                         mos_printf(s->arena, "%s has %d words, and the loader takes %llu of them",
                                    c->name, argc, (unsigned long long)s->rig->most_words));
        return ub_usage(s, c->name);
    }
    int code = c->most && (unsigned)argc > c->most ? -1 : c->run(s, argc, argv);
    return code == -1 ? ub_usage(s, c->name) : code;
}

int ub_command(struct sim *s, int argc, const char *const *argv) {
    if (s->words) /* a command of a command: what was typed is named */
        return run_command(s, argc, argv);
    s->words = argv;
    s->word_count = argc;
    int code = run_command(s, argc, argv);
    s->words = NULL;
    s->word_count = 0;
    return code;
}
