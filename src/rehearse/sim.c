/* What every part of a rehearsal uses: events, what the loader prints, its variables. */
#include "rehearse/sim.h"

#include "base/bytes.h"

#include <assert.h>
#include <ctype.h>
#include <stdlib.h>
#include <string.h>

enum { MOST_EVENTS = 2000, MOST_CONSOLE = 1 << 20 };

void sim_event(struct sim *s, enum mos_event_kind kind, uint64_t at, uint64_t bytes,
               const char *from, const char *format, ...) {
    if (s->out->events.count >= MOST_EVENTS)
        return;
    va_list arguments;
    va_start(arguments, format);
    const char *text = mos_vprintf(s->arena, format, arguments);
    va_end(arguments);
    struct mos_event *e = mos_vec_push(&s->out->events);
    *e = (struct mos_event){kind, text, from, at, bytes, s->depth, s->part};
}

void sim_print(struct sim *s, const char *format, ...) {
    va_list arguments;
    va_start(arguments, format);
    const char *text = mos_vprintf(s->arena, format, arguments);
    va_end(arguments);
    if (s->console->length + strlen(text) > MOST_CONSOLE)
        return;
    mos_buf_text(s->console, text);
}

static const char *command_text(struct sim *s) {
    struct mos_buf b = {.arena = s->arena};
    for (int i = 0; i < s->word_count; i++)
        mos_buf_printf(&b, "%s%s", i ? " " : "", s->words[i]);
    return b.length ? mos_buf_string(&b) : NULL;
}

void sim_note_trouble(struct sim *s, const char *text) {
    sim_event(s, MOS_EVENT_TROUBLE, 0, 0, NULL, "%s", text);
    s->last_trouble = text;
    if (!s->cause.command) /* what comes after it follows from it, as a rule */
        s->cause =
            (struct mos_rehearsal_cause){.variable = s->variable, .command = command_text(s)};
    if (!s->first_trouble)
        s->first_trouble = text;
}

int sim_trouble(struct sim *s, const char *format, ...) {
    va_list arguments;
    va_start(arguments, format);
    const char *text = mos_vprintf(s->arena, format, arguments);
    va_end(arguments);
    sim_print(s, "%s\n", text);
    sim_note_trouble(s, text);
    return 1;
}

/* What was wrong first in this attempt, and what ended it. */
const char *sim_complaint(struct sim *s) {
    assert(s->first_trouble && s->last_trouble);
    if (strcmp(s->first_trouble, s->last_trouble) == 0)
        return s->last_trouble;
    return mos_printf(s->arena, "%s (in the end: %s)", s->first_trouble, s->last_trouble);
}

static void note_passed(struct sim *s) {
    assert(s->entry && s->last_trouble);
    struct mos_vec *all = &s->out->passed;
    for (size_t i = 0; i < all->count; i++)
        if (strcmp(((const struct mos_passed_entry *)mos_vec_at(all, i))->entry, s->entry) == 0)
            return;
    *(struct mos_passed_entry *)mos_vec_push(all) =
        (struct mos_passed_entry){s->entry, sim_complaint(s), s->cause};
}

void sim_try(struct sim *s, const char *name) {
    if (name && s->entry && s->last_trouble && strcmp(name, s->entry) != 0)
        note_passed(s);
    if (name)
        s->entry = name;
    s->first_trouble = s->last_trouble = NULL;
    s->cause = (struct mos_rehearsal_cause){0};
}

void sim_undecided(struct sim *s, const char *format, ...) {
    va_list arguments;
    va_start(arguments, format);
    const char *text = mos_vprintf(s->arena, format, arguments);
    va_end(arguments);
    if (!s->undecided)
        s->undecided = text;
    sim_unknown(s, "%s", text);
}

void sim_charge(struct sim *s, uint64_t bytes) {
    s->steps += (unsigned long)(mos_min(bytes, 1ull << 32) >> 18);
}

void sim_unknown(struct sim *s, const char *format, ...) {
    va_list arguments;
    va_start(arguments, format);
    const char *text = mos_vprintf(s->arena, format, arguments);
    va_end(arguments);
    for (size_t i = 0; i < s->out->events.count; i++) {
        const struct mos_event *e = mos_vec_at(&s->out->events, i);
        if (e->kind == MOS_EVENT_UNKNOWN && strcmp(e->what, text) == 0)
            return;
    }
    sim_event(s, MOS_EVENT_UNKNOWN, 0, 0, NULL, "%s", text);
}

const char *sim_get(const struct sim *s, const char *name) {
    return mos_map_get(&s->env, name);
}

void sim_set(struct sim *s, const char *name, const char *value) {
    mos_map_set(&s->env, mos_strdup(s->arena, name), value ? mos_strdup(s->arena, value) : NULL);
}

void sim_set_number(struct sim *s, const char *name, uint64_t value) {
    sim_set(s, name, mos_printf(s->arena, "%llx", (unsigned long long)value));
}

uint64_t sim_number(const char *text, const char **end, int base) {
    assert(base == 0 || base == 8 || base == 10 || base == 16);
    uint64_t value = 0;
    bool minus = *text == '-';
    text += minus;
    if (text[0] == '0' && tolower((unsigned char)text[1]) == 'x' &&
        isxdigit((unsigned char)text[2])) {
        text += 2;
        base = 16;
    } else if (base == 0) {
        base = *text == '0' ? 8 : 10;
    }
    for (;; text++) {
        int c = tolower((unsigned char)*text);
        int digit = isdigit(c) ? c - '0' : c >= 'a' && c <= 'f' ? c - 'a' + 10 : 99;
        if (digit >= base)
            break;
        value = value * (uint64_t)base + (uint64_t)digit;
    }
    if (end)
        *end = text;
    return minus ? 0 - value : value;
}

bool sim_address(const char *text, uint64_t *out) {
    const char *end;
    *out = sim_number(text, &end, 16);
    return *text && !*end;
}

static bool stands_in(const char *const *names, const char *name) {
    for (; names && *names; names++)
        if (strcmp(*names, name) == 0)
            return true;
    return false;
}

bool sim_lacks(const struct sim *s, const char *name) {
    return stands_in(s->rig->lacks, name);
}

bool sim_has(const struct sim *s, const char *name) {
    return stands_in(s->rig->has, name);
}
