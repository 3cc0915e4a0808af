/* What the kernel was told, and how its start can fail. */
#include "rehearse/root.h"

#include <stdarg.h>
#include <string.h>

void sim_wrong(struct sim *s, enum mos_rehearsal_end end, const char *format, ...) {
    va_list arguments;
    va_start(arguments, format);
    const char *text = mos_vprintf(s->arena, format, arguments);
    va_end(arguments);
    if (s->boot.by_ramdisk) {
        sim_event(s, MOS_EVENT_TROUBLE, 0, 0, NULL, "for the ramdisk's first program: %s", text);
        return;
    }
    sim_event(s, MOS_EVENT_WRONG, 0, 0, NULL, "%s", text);
    if (s->out->end == MOS_END_BOOTS) {
        s->out->end = end;
        s->out->reason = text;
        s->out->cause = (struct mos_rehearsal_cause){.argument = s->argument};
    }
}

const char *sim_argument(struct sim *s, const char *name) {
    const char *found = NULL;
    size_t n = strlen(name);
    for (const char *p = s->boot.arguments; *(p += strspn(p, " "));) {
        size_t length = strcspn(p, " ");
        if (length > n && strncmp(p, name, n) == 0 && p[n] == '=')
            found = mos_strndup(s->arena, p + n + 1, length - n - 1);
        p += length;
    }
    s->argument = found ? mos_printf(s->arena, "%s=%s", name, found) : s->argument;
    return found;
}

bool sim_flag(const struct sim *s, const char *name) {
    size_t n = strlen(name);
    for (const char *p = s->boot.arguments; *(p += strspn(p, " "));) {
        size_t length = strcspn(p, " ");
        if (length == n && strncmp(p, name, n) == 0)
            return true;
        p += length;
    }
    return false;
}
