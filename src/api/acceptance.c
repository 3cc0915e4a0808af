#include "api/acceptance.h"

#include "base/text.h"
#include "model/choices.h"

#include <stdlib.h>
#include <string.h>

enum {
    USUAL_SECONDS = 20,
    LONGEST_FOUND = 80,
    LEAST_RAM = 80 /* of a hundred, as the kernel counts it */
};

_Static_assert((int)MOS_ACCEPTANCE_LINE <= (int)MOS_SHELL_COMMAND, "it can be typed");

struct maker {
    struct mos_arena *arena;
    const struct mos_plan *plan;
    const struct mos_board *board;
    const struct mos_acceptance *stated; /* NULL: nothing is */
    const struct mos_rehearsal *boot;
    struct mos_vec checks, *unknown;
};

static void unknown(struct maker *m, const char *what) {
    mos_vec_push_pointer(m->unknown, mos_printf(m->arena, "acceptance: %s", what));
}

static struct acceptance_check *add(struct maker *m, const char *name, const char *command,
                                    struct mos_place place) {
    const struct mos_list *without = m->stated ? &m->stated->without : NULL;
    bool left_out = false;
    for (size_t i = 0; without && i < without->count; i++)
        left_out =
            left_out || (mos_has(without->items[i]) && strcmp(without->items[i]->text, name) == 0);
    struct acceptance_check *c =
        left_out ? mos_alloc(m->arena, sizeof *c) : mos_vec_push(&m->checks);
    *c = (struct acceptance_check){
        .name = name, .command = command, .place = place, .seconds = USUAL_SECONDS};
    return c;
}

static struct acceptance_check *is(struct acceptance_check *c, const char *text) {
    c->kind = ACCEPTS_TEXT;
    c->text = c->expected = text;
    return c;
}

static void lies_within(struct acceptance_check *c, uint64_t least, uint64_t most,
                        const char *words) {
    c->kind = ACCEPTS_RANGE;
    c->least = least;
    c->most = most;
    c->expected = words;
}

static void works(struct acceptance_check *c, const char *words) {
    c->kind = ACCEPTS_STATUS;
    c->expected = words;
}

static struct mos_place place_of(const struct mos_value *v, const struct maker *m) {
    return v ? v->place : m->board->r.key_place;
}

/* ---- what was built ---- */

static void ask_kernel(struct maker *m) {
    const struct mos_entry_plan *e =
        m->plan->entries.count ? mos_vec_pointer(&m->plan->entries, 0) : NULL;
    struct mos_place place = e ? e->def->r.key_place : m->board->r.key_place;
    if (m->boot->release)
        is(add(m, "release", "uname -r", place), m->boot->release);
    else
        unknown(m, "which release its kernel must have: the file does not tell");
    if (m->boot->arguments)
        is(add(m, "arguments", "cat /proc/cmdline", place), m->boot->arguments);
    else
        unknown(m, "which arguments its kernel must have");
}

static void ask_processor(struct maker *m) {
    static const char *const machines[] = {[MOS_CPU_ARM64] = "aarch64",
                                           [MOS_CPU_ARM] = "armv{}",
                                           [MOS_CPU_RISCV64] = "riscv64",
                                           [MOS_CPU_X86_64] = "x86_64"};
    const struct mos_hardware *h = m->board->hardware;
    const struct mos_value *cpu = h ? h->cpu : NULL, *cores = h ? h->cores : NULL;
    if (mos_has(cpu)) {
        struct acceptance_check *c = add(m, "processor", "uname -m", cpu->place);
        is(c, machines[mos_cpu_of(cpu)]);
        c->kind = ACCEPTS_LINE;
    }
    if (mos_has(cores))
        lies_within(add(m, "cores", "grep -c ^processor /proc/cpuinfo", cores->place),
                    (uint64_t)cores->number, (uint64_t)cores->number, cores->text);
    else
        unknown(m, "how many cores it must have: hardware.cores states it");
}

/* All ranges with their smallest sizes at least, and with their largest at most; the kernel keeps
 * some for itself. */
static void ask_ram(struct maker *m) {
    const struct mos_hardware *h = m->board->hardware;
    uint64_t least = 0, most = 0;
    const struct mos_value *first = NULL;
    for (size_t i = 0; h && i < h->ram.count; i++) {
        const struct mos_ram *r = h->ram.items[i];
        uint64_t low = UINT64_MAX, high = 0;
        for (size_t k = 0; k < r->sizes.count; k++) {
            uint64_t n = mos_has(r->sizes.items[k]) ? (uint64_t)r->sizes.items[k]->number : 0;
            low = n < low ? n : low;
            high = n > high ? n : high;
            first = first ? first : r->sizes.items[k];
        }
        least += r->sizes.count ? low : 0;
        most += high;
    }
    if (!most) {
        unknown(m, "how much RAM it must have: hardware.ram states it");
        return;
    }
    lies_within(add(m, "ram", "sed -n 's/^MemTotal: *\\([0-9]*\\).*/\\1/p' /proc/meminfo",
                    place_of(first, m)),
                least / 1024 * LEAST_RAM / 100, most / 1024,
                mos_printf(m->arena, "%llu to %llu kB",
                           (unsigned long long)(least / 1024 * LEAST_RAM / 100),
                           (unsigned long long)(most / 1024)));
}

/* The file system's kind and the partition's number of what is mounted at /. */
static void ask_root(struct maker *m) {
    const struct mos_entry_plan *e =
        m->plan->entries.count ? mos_vec_pointer(&m->plan->entries, 0) : NULL;
    const struct mos_region_plan *root = e ? e->root : NULL;
    if (!root || !root->fs) {
        unknown(m, "which root it must have: its arguments name no region of the layout");
        return;
    }
    struct acceptance_check *c = add(
        m, "root",
        "d=$(sed -n 's/^[0-9]* [0-9]* \\([0-9:]*\\) [^ ]* \\/ .*/\\1/p' /proc/self/mountinfo | "
        "tail -n 1); n=$(sed -n 's/^PARTN=//p' /sys/dev/block/$d/uevent); t=$(sed -n 's/^[^ ]* "
        "\\/ \\([^ ]*\\) .*/\\1/p' /proc/mounts | tail -n 1); echo \"$t, partition ${n:-none}\"",
        root->place);
    is(c, root->number ? mos_printf(m->arena, "%s, partition %u", root->fs->name, root->number)
                       : mos_printf(m->arena, "%s, partition none", root->fs->name));
}

static void ask_system(struct maker *m) {
    const struct mos_system *s = m->board->system;
    if (s && mos_has(s->host_name))
        is(add(m, "host-name", "uname -n", s->host_name->place), s->host_name->text);
    for (size_t i = 0; s && i < s->mounts.count; i++) {
        const struct mos_mount *x = s->mounts.items[i];
        if (!mos_has(x->at) || strcmp(x->at->text, "/") == 0)
            continue;
        works(add(m, mos_printf(m->arena, "mount %s", x->at->text),
                  mos_printf(m->arena, "grep ' %s ' /proc/mounts", x->at->text), x->r.key_place),
              "mounted");
    }
    lies_within(add(m, "date", "date +%s", m->board->r.key_place), (uint64_t)m->board->date,
                UINT64_MAX, "not before the build's");
}

/* Of a module's file its name: "snd-soc" is "snd_soc". */
static void ask_module(struct maker *m, const struct mos_value *name) {
    char *own = mos_strdup(m->arena, name->text);
    for (char *p = own; *p; p++)
        *p = *p == '-' ? '_' : *p;
    works(add(m, mos_printf(m->arena, "module %s", own),
              mos_printf(m->arena, "grep '^%s ' /proc/modules", own), name->place),
          "loaded");
}

static void ask_modules(struct maker *m) {
    for (size_t i = 0; i < m->plan->pieces.count; i++) {
        const struct mos_piece_plan *p = mos_vec_pointer(&m->plan->pieces, i);
        const struct mos_entry_plan *e =
            m->plan->entries.count ? mos_vec_pointer(&m->plan->entries, 0) : NULL;
        const struct mos_ramdisk *r = p->def->ramdisk;
        for (size_t k = 0; e && e->ramdisk == p && r && r->modules && k < r->modules->names.count;
             k++)
            if (mos_has(r->modules->names.items[k]))
                ask_module(m, r->modules->names.items[k]);
    }
}

/* ---- what is stated ---- */

/* Within quotes of a shell. */
static const char *quoted(struct maker *m, const char *text) {
    struct mos_buf b = {.arena = m->arena};
    mos_buf_char(&b, '\'');
    for (; *text; text++)
        if (*text == '\'')
            mos_buf_text(&b, "'\\''");
        else
            mos_buf_char(&b, *text);
    mos_buf_char(&b, '\'');
    return mos_buf_string(&b);
}

static void each(struct maker *m, const struct mos_list *list, const char *name,
                 const char *command, const char *words) {
    for (size_t i = 0; i < list->count; i++) {
        const struct mos_value *v = list->items[i];
        struct mos_buf b = {.arena = m->arena};
        if (!mos_has(v))
            continue;
        for (const char *p = command; *p; p++)
            if (*p == '@')
                mos_buf_text(&b, quoted(m, v->text));
            else
                mos_buf_char(&b, *p);
        works(add(m, mos_printf(m->arena, "%s %s", name, v->text), mos_buf_string(&b), v->place),
              words);
    }
}

static void ask_stated(struct maker *m) {
    const struct mos_acceptance *a = m->stated;
    each(m, &a->services, "service", "systemctl is-active @ 2>/dev/null || pidof @ || pgrep -x @",
         "running");
    each(m, &a->devices, "device", "test -e @", "there");
    each(m, &a->addresses, "address", "ip -4 address | grep -F \" \"@/", "its own");
    each(m, &a->replies, "reply of", "ping -c 1 -W 3 @", "an answer");
    for (size_t i = 0; i < a->modules.count; i++)
        if (mos_has(a->modules.items[i]))
            ask_module(m, a->modules.items[i]);
    for (size_t i = 0; i < a->checks.count; i++) {
        const struct mos_acceptance_check *x = a->checks.items[i];
        if (!mos_has(x->type))
            continue;
        if (strlen(x->type->text) > MOS_ACCEPTANCE_LINE || strpbrk(x->type->text, "\r\n")) {
            unknown(m, mos_printf(m->arena, "%s: its command is no line", x->r.name));
            continue; /* board.acceptance tells why */
        }
        struct acceptance_check *c = add(m, x->r.name, x->type->text, x->r.key_place);
        c->stated = true;
        c->status = mos_has(x->status) ? (int)x->status->number : 0;
        c->seconds = mos_has(x->within) ? (unsigned)x->within->number : USUAL_SECONDS;
        works(c, mos_printf(m->arena, "status %d", c->status));
        if (mos_has(x->sees)) {
            c->kind = ACCEPTS_LINE;
            c->text = c->expected = x->sees->text;
        }
    }
}

struct mos_vec acceptance_checks(struct mos_arena *arena, const struct mos_plan *plan,
                                 const struct mos_rehearsal *boot, struct mos_vec *unknown_to) {
    struct maker m = {.arena = arena,
                      .plan = plan,
                      .board = plan->board,
                      .stated = plan->board->acceptance,
                      .boot = boot,
                      .checks = mos_vec_make(arena, sizeof(struct acceptance_check)),
                      .unknown = unknown_to};
    ask_kernel(&m);
    ask_processor(&m);
    ask_ram(&m);
    ask_root(&m);
    ask_system(&m);
    ask_modules(&m);
    if (m.stated)
        ask_stated(&m);
    return m.checks;
}

/* ---- judging ---- */

static const char *first_line(struct mos_arena *arena, const char *text) {
    text += strspn(text, " \t");
    size_t n = strcspn(text, "\n");
    return n > LONGEST_FOUND ? mos_printf(arena, "%.*s…", LONGEST_FOUND, text)
                             : mos_printf(arena, "%.*s", (int)n, text);
}

/* A text with {} is somewhere in a line. */
static bool has(const char *line, size_t length, const char *text) {
    const char *gap = strstr(text, "{}");
    size_t n = gap ? (size_t)(gap - text) : strlen(text);
    for (size_t at = 0; at + n <= length; at++) {
        if (memcmp(line + at, text, n) != 0)
            continue;
        if (!gap || has(line + at + n, length - at - n, gap + 2))
            return true;
    }
    return false;
}

static bool has_line(const char *output, const char *text, const char **line) {
    for (const char *p = output; *p; p = mos_next_line(p)) {
        *line = p;
        if (has(p, strcspn(p, "\n"), text))
            return true;
    }
    return false;
}

void acceptance_judge(struct mos_arena *arena, struct acceptance_check *c,
                      const struct mos_shell *shell) {
    const char *line = shell->output;
    char *end;
    c->asked = true;
    c->found = first_line(arena, shell->output);
    if (shell->timed_out) {
        c->found = mos_printf(arena, "nothing within %u s", c->seconds);
        return;
    }
    unsigned long long n = strtoull(shell->output, &end, 10);
    switch (c->kind) {
    case ACCEPTS_TEXT:
        c->good = strcmp(shell->output, c->text) == 0;
        break;
    case ACCEPTS_LINE:
        c->good = shell->status == c->status && has_line(shell->output, c->text, &line);
        c->found = first_line(arena, c->good ? line : shell->output);
        break;
    case ACCEPTS_RANGE:
        c->good = end != shell->output && !*end && n >= c->least && n <= c->most;
        break;
    case ACCEPTS_STATUS:
        c->good = shell->status == c->status;
        break;
    }
    if (!c->good && (!*c->found || c->kind == ACCEPTS_STATUS))
        c->found =
            mos_printf(arena, "status %d%s%s", shell->status, *c->found ? ": " : "", c->found);
}
