/* What must come on the serial line: from the rehearsal of what was built, in its order. */
#include "api/listen.h"

#include "base/text.h"

#include <stdlib.h>
#include <string.h>

#define SECOND INT64_C(1000000000)

/* Seconds that each may take behind the one before it; a definition may say otherwise. */
enum { MOST_STARTS = 5 }; /* that come to nothing */
enum {
    FIRST_WITHIN = 60,
    LOADER_WITHIN = 30,
    SCRIPT_WITHIN = 60,
    HAND_WITHIN = 90,
    KERNEL_WITHIN = 30,
    ROOT_WITHIN = 90,
    PROGRAM_WITHIN = 30,
    SYSTEM_WITHIN = 180,
    MORE_AT_FIRST = 3 /* times as long on the first start */
};

enum {
    NOTICE = 5,
    INFO = 6,
    USUAL_LEVEL = 7,
    QUIET_LEVEL = 4,
    SHORTEST_TEXT = 4,
    LONGEST_TEXT = 120
};

static struct mos_landmark *add(struct listen_job *j, const char *name, const char *about,
                                enum mos_boot_stage stage, const char *text, unsigned within) {
    struct mos_landmark *l = mos_vec_push(&j->landmarks);
    *l = (struct mos_landmark){.name = name,
                               .about = about,
                               .stage = stage,
                               .text = text,
                               .within =
                                   within * SECOND * (j->request->first_start ? MORE_AT_FIRST : 1)};
    return l;
}

/* ---- the loader ---- */

/* The version in the binaries of the board's stages. */
static const char *version_of(struct listen_job *j, bool first) {
    const struct mos_named *stages = &j->plan->board->stages;
    const char *found = NULL;
    for (size_t i = 0; i < stages->count && !found; i++) {
        const struct mos_stage *s = stages->items[i];
        const struct mos_piece_plan *piece =
            mos_has(s->piece) ? mos_plan_piece(j->plan, s->piece->target) : NULL;
        const uint8_t *bytes =
            mos_plan_is_there(piece) ? mos_plan_piece_bytes(j->plan->self, piece) : NULL;
        if (bytes)
            found = j->dialect->speech->version(j->m->arena, bytes, (size_t)piece->size, first);
    }
    return found;
}

static void add_loader(struct listen_job *j, const struct mos_dialect *d, bool known) {
    const struct mos_loader_speech *speech = d->speech;
    const char *first = known ? version_of(j, true) : NULL;
    const char *version = known ? version_of(j, false) : NULL;
    struct mos_landmark *l =
        add(j, "first-stage", "the first stage speaks", MOS_AT_FIRST, speech->first, FIRST_WITHIN);
    l->begins = true;
    l->may = !first;
    l->value = first;
    l->other = MOS_SYMPTOM_OTHER_LOADER;
    l = add(j, "loader", "the loader speaks", MOS_AT_LOADER, speech->loader,
            first ? LOADER_WITHIN : FIRST_WITHIN);
    l->begins = true;
    l->value = version;
    l->other = MOS_SYMPTOM_OTHER_LOADER;
    const struct mos_loader_variable *silent =
        known ? mos_plan_loader_variable(j->plan, "silent") : NULL;
    l->may = !known || (silent && silent->value && *silent->value);
}

static bool in_lines(const char *text, const char *line) {
    size_t n = strlen(line);
    for (const char *p = text; *p; p = mos_next_line(p))
        if (strncmp(p, line, n) == 0 && (p[n] == '\n' || p[n] == '\r' || !p[n]))
            return true;
    return false;
}

/* Where no rehearsal tells, the script itself does: it names the entry. */
static void add_entry(struct listen_job *j) {
    const struct mos_boot_script *script = &j->plan->script;
    struct mos_buf text = j->plan->script_text;
    if (!script->count)
        return;
    const char *says = mos_printf(j->m->arena, "Entry %s", script->steps[0].name);
    if (strstr(mos_buf_string(&text), says) && !strpbrk(says, "{}^$"))
        add(j, "script-1", mos_printf(j->m->arena, "the script says \"%s\"", says), MOS_AT_LOADER,
            mos_printf(j->m->arena, "^%s$", says), SCRIPT_WITHIN);
}

/* What our script prints on its way. */
static void add_script(struct listen_job *j) {
    const char *printed = mos_buf_string(&j->boot.console);
    size_t n = 0;
    if (!j->told)
        add_entry(j);
    for (size_t i = 0; i < j->boot.events.count; i++) {
        const struct mos_event *e = mos_vec_at(&j->boot.events, i);
        size_t length = strlen(e->what);
        if (e->kind == MOS_EVENT_HAND)
            break;
        if (e->kind != MOS_EVENT_SAY || length < SHORTEST_TEXT || length > LONGEST_TEXT ||
            strpbrk(e->what, "{}^$") || !in_lines(printed, e->what))
            continue;
        add(j, mos_printf(j->m->arena, "script-%zu", ++n),
            mos_printf(j->m->arena, "the script says \"%s\"", e->what), MOS_AT_LOADER,
            mos_printf(j->m->arena, "^%s$", e->what), SCRIPT_WITHIN);
    }
}

/* ---- the kernel ---- */

static const char *argument(const char *arguments, const char *name, size_t *length) {
    size_t n = strlen(name);
    const char *last = NULL;
    for (const char *p = arguments; *(p += strspn(p, " "));) {
        size_t word = strcspn(p, " ");
        if (word >= n && strncmp(p, name, n) == 0 && (word == n || p[n] == '=')) {
            last = word == n ? "" : p + n + 1;
            *length = word == n ? 0 : word - n - 1;
        }
        p += word;
    }
    return last;
}

/* The level up to which the kernel prints. */
static unsigned level_of(struct listen_job *j) {
    size_t length;
    const char *arguments = j->boot.arguments, *given = argument(arguments, "loglevel", &length);
    const char *symbol = argument(arguments, "quiet", &length) ? "CONFIG_CONSOLE_LOGLEVEL_QUIET"
                                                               : "CONFIG_CONSOLE_LOGLEVEL_DEFAULT";
    const struct mos_setting *set = mos_map_get(&j->plan->config, symbol);
    if (argument(arguments, "ignore_loglevel", &length))
        return 15;
    if (given && argument(arguments, "loglevel", &length))
        return (unsigned)strtoul(given, NULL, 10);
    if (set && set->value && *set->value)
        return (unsigned)strtoul(set->value, NULL, 10);
    return argument(arguments, "quiet", &length) ? QUIET_LEVEL : USUAL_LEVEL;
}

/* Does the kernel put words of its own into the line? */
static bool adds_arguments(const struct mos_plan *plan) {
    const struct mos_setting *set = mos_map_get(&plan->config, "CONFIG_CMDLINE");
    return set && set->value && *set->value && strcmp(set->value, "\"\"") != 0;
}

static const char *trimmed(struct listen_job *j, const char *text) {
    size_t n = strlen(text);
    while (n && text[n - 1] == ' ')
        n--;
    return mos_strndup(j->m->arena, text, n);
}

static void add_kernel(struct listen_job *j) {
    const struct mos_rehearsal *r = &j->boot;
    bool known = j->plan && r->arguments, told = j->told;
    unsigned level = known ? level_of(j) : 0;
    struct mos_landmark *l =
        add(j, "kernel", "the kernel speaks", MOS_AT_KERNEL, "^Linux version {} (", KERNEL_WITHIN);
    l->begins = true;
    l->may = level <= NOTICE;
    l->value = r->release;
    l->other = MOS_SYMPTOM_OTHER_KERNEL;
    if (known && r->model) {
        l = add(j, "board", "the kernel knows the board by its tree", MOS_AT_KERNEL,
                "Machine model: {}", KERNEL_WITHIN);
        l->may = true; /* not every architecture says so */
        l->value = r->model;
        l->other = MOS_SYMPTOM_NO_TREE_MODEL;
    }
    l = add(j, "arguments", "the kernel has its arguments", MOS_AT_KERNEL,
            "^Kernel command line: {}", KERNEL_WITHIN);
    l->may = level <= NOTICE;
    l->value = known && !adds_arguments(j->plan) ? trimmed(j, r->arguments) : NULL;
    l->other = MOS_SYMPTOM_OTHER_ARGUMENTS;
    if (!told || (r->root && !r->by_ramdisk)) {
        l = add(j, "root", "the kernel has its root", MOS_AT_ROOT,
                "VFS: Mounted root ({} filesystem)", ROOT_WITHIN);
        l->may = !told || level <= INFO;
    }
    if (!told || r->program) {
        bool by_ramdisk = told && r->by_ramdisk;
        l = add(j, by_ramdisk ? "ramdisk" : "first-program",
                by_ramdisk ? "the ramdisk's first program starts" : "the first program starts",
                by_ramdisk ? MOS_AT_ROOT : MOS_AT_PROGRAM, "^Run {} as init process",
                PROGRAM_WITHIN);
        l->may = !told || level <= INFO;
    }
}

static void add_system(struct listen_job *j) {
    const struct mos_rehearsal *r = &j->boot;
    bool shell = r->program && mos_text_ends(r->program, "/sh");
    if (shell) {
        add(j, "shell", "the shell waits for a command", MOS_AT_SYSTEM, "# $", SYSTEM_WITHIN)
            ->open = true;
    } else if (!j->told || r->log_in) {
        add(j, "log-in", "a log-in is asked for", MOS_AT_SYSTEM, " login:", SYSTEM_WITHIN)->open =
            true;
    }
}

/* ---- what the definition says of them ---- */

/* <arguments> and <release> in a text: what was built. */
static const char *filled(struct listen_job *j, const char *text) {
    struct mos_buf out = {.arena = j->m->arena};
    while (*text) {
        if (strncmp(text, "<arguments>", 11) == 0) {
            mos_buf_text(&out, j->boot.arguments ? trimmed(j, j->boot.arguments) : "{}");
            text += 11;
        } else if (strncmp(text, "<release>", 9) == 0) {
            mos_buf_text(&out, j->boot.release ? j->boot.release : "{}");
            text += 9;
        } else {
            mos_buf_char(&out, *text++);
        }
    }
    return mos_buf_string(&out);
}

static size_t find(const struct listen_job *j, const char *name) {
    size_t i = 0;
    while (i < j->landmarks.count &&
           strcmp(((struct mos_landmark *)mos_vec_at(&j->landmarks, i))->name, name) != 0)
        i++;
    return i;
}

/* A new one behind the one that it names, or before the log-in. */
static struct mos_landmark *insert(struct listen_job *j, const struct mos_landmark_def *def) {
    size_t count = j->landmarks.count, at = count;
    if (mos_has(def->behind) && find(j, def->behind->text) < count)
        at = find(j, def->behind->text) + 1;
    else
        while (at && ((struct mos_landmark *)mos_vec_at(&j->landmarks, at - 1))->open)
            at--;
    const struct mos_landmark *before = at ? mos_vec_at(&j->landmarks, at - 1) : NULL;
    enum mos_boot_stage stage = before ? before->stage : MOS_AT_SYSTEM;
    if (!mos_has(def->behind) || stage == MOS_AT_PROGRAM)
        stage = MOS_AT_SYSTEM;
    add(j, def->r.name, NULL, stage, "", SYSTEM_WITHIN);
    struct mos_landmark *all = j->landmarks.items, added = all[count];
    memmove(all + at + 1, all + at, (count - at) * sizeof *all);
    all[at] = added;
    return &all[at];
}

/* Names that are ours, whether this boot has such a landmark or not. */
static bool is_ours(const char *name) {
    static const char *const names[] = {"first-stage",   "loader",    "hand-over", "kernel",
                                        "board",         "arguments", "root",      "ramdisk",
                                        "first-program", "shell",     "log-in"};
    for (size_t i = 0; i < sizeof names / sizeof *names; i++)
        if (strcmp(names[i], name) == 0)
            return true;
    return strncmp(name, "script-", 7) == 0;
}

static bool change(struct listen_job *j, const struct mos_landmark_def *def) {
    size_t i = find(j, def->r.name);
    bool is_new = i == j->landmarks.count;
    if (is_new && is_ours(def->r.name))
        return true; /* this boot has none */
    if (is_new && !mos_has(def->text))
        return mos_fail(&j->m->error, MOS_ERROR_USAGE, 0,
                        "Landmark %s has no text, and none of that name is known", def->r.name);
    struct mos_landmark *l = is_new ? insert(j, def) : mos_vec_at(&j->landmarks, i);
    if (mos_has(def->text)) {
        struct mos_matcher *trial = mos_matcher_new(j->m->arena);
        l->text = filled(j, def->text->text);
        if (!strstr(l->text, "{}"))
            l->value = NULL;
        l->about = mos_printf(j->m->arena, "\"%s\" comes", def->text->text);
        if (mos_matcher_add(trial, l->text, strlen(l->text)) == SIZE_MAX)
            return mos_fail(&j->m->error, MOS_ERROR_USAGE, 0,
                            "Landmark %s: a text needs two letters in a row, and has at most "
                            "three {}",
                            def->r.name);
        l->may = false;
    }
    if (mos_has(def->may))
        l->may = def->may->truth;
    if (j->request->first_start && mos_has(def->first_start))
        l->within = (int64_t)def->first_start->number * SECOND;
    else if (mos_has(def->within))
        l->within =
            (int64_t)def->within->number * SECOND * (j->request->first_start ? MORE_AT_FIRST : 1);
    return true;
}

static void add_loaders(struct listen_job *j) {
    const struct mos_dialect *d;
    if (j->plan) {
        if (j->dialect && j->dialect->speech)
            add_loader(j, j->dialect, true);
        return;
    }
    for (size_t i = 0; (d = mos_dialect_at(i)); i++)
        if (d->speech)
            add_loader(j, d, false);
}

bool listen_marks(struct listen_job *j) {
    const struct mos_loader_speech *speech = j->dialect ? j->dialect->speech : NULL;
    j->landmarks = mos_vec_make(j->m->arena, sizeof(struct mos_landmark));
    add_loaders(j);
    if (j->plan)
        add_script(j);
    if (speech && speech->hands_over && (!j->plan || j->boot.arguments)) {
        struct mos_landmark *l = add(j, "hand-over", "the loader starts the kernel",
                                     MOS_AT_HAND_OVER, speech->hands_over, HAND_WITHIN);
        l->may = !j->plan;
    }
    if (!j->plan || j->boot.arguments)
        add_kernel(j);
    add_system(j);
    const struct mos_named *defs = j->plan ? &j->plan->board->landmarks : NULL;
    for (size_t i = 0; defs && i < defs->count; i++)
        if (!change(j, defs->items[i]))
            return false;
    return true;
}

/* ---- the watch over them ---- */

static bool by_variables(const struct listen_job *j) {
    const struct mos_boot *boot = j->plan ? j->plan->board->boot : NULL;
    return boot && mos_has(boot->via) && strcmp(boot->via->text, "environment") == 0;
}

void listen_begin(struct listen_job *j, int64_t now) {
    const struct mos_loader_orders *orders = j->dialect ? j->dialect->orders : NULL;
    const char *usual = j->plan ? mos_buf_string(&j->boot.console) : NULL;
    struct mos_watch_settings s = {
        .arena = j->m->arena,
        .landmarks = j->landmarks.items,
        .count = j->landmarks.count,
        .prompt = orders ? orders->prompt : NULL,
        .usual = usual,
        .by_variables = by_variables(j),
        .network = !j->plan || (j->plan->board->boot && j->plan->board->boot->network),
        .starts = j->request->stored ? 0 : MOST_STARTS};
    j->began = now;
    mos_watch_begin(&j->watch, &s, now);
}
