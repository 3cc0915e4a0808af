#include "learning/greeting.h"

#include "link/plain.h"

#include <string.h>

#define MS INT64_C(1000000)

enum {
    COUNTDOWN_MS = 150, /* between two keys into a board that speaks */
    QUIET_MS = 500,     /* it says nothing more for now */
    IDLE_MS = 1500,     /* … and this long where nobody was asked for a word */
    AGAIN_MS = 2500,    /* between two keys into a silent line */
    ECHO = 8,           /* characters */
    MOST_HEARD = 64 << 10
};

void mos_greeting_begin(struct mos_greeting *g, struct mos_arena *arena, const char *interrupt,
                        int64_t within, int64_t now) {
    *g = (struct mos_greeting){.heard = {.arena = arena},
                               .interrupt = interrupt,
                               .until = now + within,
                               .heard_at = now,
                               .typed_at = now - AGAIN_MS * MS};
}

void mos_greeting_hear(struct mos_greeting *g, const uint8_t *bytes, size_t length, int64_t now) {
    for (size_t i = 0; i < length; i++)
        if (mos_plain_is_text(&g->escape, bytes[i]))
            mos_buf_char(&g->heard, (char)bytes[i]);
    if (length)
        g->heard_at = now;
    if (g->heard.length > MOST_HEARD) {
        size_t half = g->heard.length / 2;
        memmove(g->heard.data, g->heard.data + half, g->heard.length - half);
        g->heard.length -= half;
        g->looked = g->looked > half ? g->looked - half : 0;
    }
}

/* The line that has no end yet. */
static const char *last_line(struct mos_greeting *g) {
    const char *all = mos_buf_string(&g->heard), *line = strrchr(all, '\n');
    return line ? line + 1 : all;
}

static bool is_prompt(const char *line) {
    size_t n = strlen(line), end = n && line[n - 1] == ' ' ? n - 1 : n;
    return end && n < sizeof((struct mos_greeting *)0)->prompt && strchr("#$>%", line[end - 1]);
}

static bool asks_for_name(const char *line) {
    size_t n = strlen(line);
    while (n && line[n - 1] == ' ')
        n--;
    return n >= 5 && memcmp(line + n - 5, "ogin:", 5) == 0;
}

static const char *type(struct mos_greeting *g, const char *keys, int64_t now) {
    g->asked++;
    g->typed_at = now;
    g->looked = g->heard.length;
    return keys;
}

/* It says nothing more for now: a prompt is one when a key brings it back. */
static bool look(struct mos_greeting *g) {
    const char *line = last_line(g);
    if (asks_for_name(line)) {
        g->state = MOS_GREETING_LOG_IN;
    } else if (is_prompt(line)) {
        bool again = g->asked && strcmp(line, g->prompt) == 0;
        memcpy(g->prompt, line, strlen(line) + 1);
        if (again)
            g->state = MOS_GREETING_PROMPT;
    }
    return g->state != MOS_GREETING_LISTENS;
}

const char *mos_greeting_next(struct mos_greeting *g, int64_t now) {
    bool fresh = g->heard.length > g->looked;
    int64_t quiet = now - g->heard_at, since = now - g->typed_at;
    if (g->state != MOS_GREETING_LISTENS)
        return "";
    if (now >= g->until) {
        g->state = g->heard.length ? MOS_GREETING_NOISE : MOS_GREETING_SILENT;
        return "";
    }
    g->started |= fresh && strstr(mos_buf_string(&g->heard) + g->looked, "Linux version ");
    if (fresh && quiet >= QUIET_MS * MS && look(g))
        return "";
    if (g->started) /* a kernel: it is only asked once it has nothing more to say */
        return quiet >= IDLE_MS * MS && since >= IDLE_MS * MS ? type(g, "\r", now) : "";
    const char *line = last_line(g), *other = g->asked % 2 ? "\025\r" : g->interrupt;
    bool waits = is_prompt(line) || asks_for_name(line);
    bool flows = g->heard.length - g->looked > ECHO; /* what it echoes says nothing */
    if (fresh && quiet < QUIET_MS * MS)              /* it may be counting down */
        return flows && since >= COUNTDOWN_MS * MS && !waits ? type(g, g->interrupt, now) : "";
    if (fresh && waits)
        return type(g, g->interrupt, now);
    if (fresh)
        return since >= IDLE_MS * MS ? type(g, other, now) : "";
    /* what a log-in does not understand is taken back before it is entered */
    return since >= AGAIN_MS * MS ? type(g, other, now) : "";
}

int64_t mos_greeting_due(const struct mos_greeting *g, int64_t now) {
    return now + 100 * MS < g->until ? now + 100 * MS : g->until;
}
