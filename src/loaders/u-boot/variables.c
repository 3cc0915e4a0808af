#include "loaders/u-boot/variables.h"

#include <ctype.h>
#include <string.h>

struct scan {
    struct mos_arena *arena;
    const char *text;
    size_t length, at;
    struct mos_vec uses;
};

static void add(struct scan *s, enum mos_use_kind kind, size_t offset, size_t length) {
    struct mos_variable_use *u = mos_vec_push(&s->uses);
    *u = (struct mos_variable_use){kind, mos_strndup(s->arena, s->text + offset, length), offset,
                                   length};
}

static bool name_char(char c) {
    return isalnum((unsigned char)c) || c == '_';
}

/* At a '$': ${name}, $name, $?, $1.  `tested` marks uses inside a test command. */
static void dollar(struct scan *s, bool tested) {
    enum mos_use_kind kind = tested ? MOS_USE_TESTED : MOS_USE_VALUE;
    size_t at = ++s->at;
    if (at < s->length && s->text[at] == '{') {
        const char *end = memchr(s->text + at, '}', s->length - at);
        if (!end)
            return;
        size_t n = (size_t)(end - s->text) - at - 1, name = n;
        for (size_t i = 0; i < n; i++)
            if (s->text[at + 1 + i] == ':') { /* ${name:-default} */
                name = i;
                kind = MOS_USE_TESTED;
                break;
            }
        if (name)
            add(s, kind, at + 1, name);
        s->at = at + n + 2;
        return;
    }
    size_t n = 0;
    while (at + n < s->length && name_char(s->text[at + n]))
        n++;
    if (n && !isdigit((unsigned char)s->text[at]))
        add(s, kind, at, n);
    s->at = at + n;
}

static bool ends_command(char c) {
    return c == ';' || c == '\n' || c == '&' || c == '|';
}

/* What the words after a command mean. */
enum state { AT_COMMAND, AFTER_RUN, AFTER_SET, AFTER_FOR, IN_TEST, ELSEWHERE };

static enum state after_word(struct scan *s, enum state state, size_t start, size_t length) {
    const char *w = s->text + start;
    static const struct {
        const char *word;
        enum state next;
    } commands[] = {{"run", AFTER_RUN},    {"setenv", AFTER_SET}, {"for", AFTER_FOR},
                    {"test", IN_TEST},     {"[", IN_TEST},        {"if", AT_COMMAND},
                    {"then", AT_COMMAND},  {"else", AT_COMMAND},  {"elif", AT_COMMAND},
                    {"do", AT_COMMAND},    {"while", AT_COMMAND}, {"until", AT_COMMAND},
                    {"setexpr", AFTER_SET}};
    if (state == AT_COMMAND) {
        for (size_t i = 0; i < sizeof commands / sizeof *commands; i++)
            if (strlen(commands[i].word) == length && memcmp(commands[i].word, w, length) == 0)
                return commands[i].next;
        const char *equals = memchr(w, '=', length);
        if (equals && equals != w && name_char(*w)) /* name=value */
            add(s, MOS_USE_SET, start, (size_t)(equals - w));
        return ELSEWHERE;
    }
    bool plain = length && !memchr(w, '$', length);
    if (state == AFTER_RUN) {
        if (plain)
            add(s, MOS_USE_RUN, start, length);
        return AFTER_RUN;
    }
    if (state == AFTER_SET || state == AFTER_FOR) {
        if (plain && *w != '-')
            add(s, MOS_USE_SET, start, length);
        return *w == '-' ? state : ELSEWHERE;
    }
    return state;
}

struct mos_vec mos_shell_variables(struct mos_arena *arena, const char *text, size_t length) {
    struct scan s = {arena, text, length, 0, mos_vec_make(arena, sizeof(struct mos_variable_use))};
    enum state state = AT_COMMAND;
    size_t word = SIZE_MAX;
    while (s.at <= s.length) {
        char c = s.at < s.length ? text[s.at] : '\n';
        if (word != SIZE_MAX &&
            (isspace((unsigned char)c) || ends_command(c) || c == '"' || c == '\'')) {
            state = after_word(&s, state, word, s.at - word);
            word = SIZE_MAX;
        }
        if (ends_command(c)) {
            state = AT_COMMAND;
        } else if (c == '$') {
            if (word == SIZE_MAX)
                word = s.at;
            dollar(&s, state == IN_TEST);
            continue;
        } else if (c == '\'' && state != IN_TEST) {
            state = AT_COMMAND; /* a script of its own, or its end */
        } else if (!isspace((unsigned char)c) && c != '"' && c != '\'' && word == SIZE_MAX) {
            word = s.at;
        }
        s.at++;
    }
    return s.uses;
}
