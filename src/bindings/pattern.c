#include "bindings/pattern.h"

#include "base/buf.h"

#include <regex.h>
#include <string.h>

enum { LONGEST_PATTERN = 512, LONGEST_TEXT = 1024 };

/* What stands behind a backslash, outside of brackets and in them; NULL: POSIX has no such thing.
 */
static const char *escaped(char c, bool bracket, char room[3]) {
    static const struct {
        char c;
        const char *outside, *inside;
    } classes[] = {{'d', "[0-9]", "0-9"},
                   {'w', "[A-Za-z0-9_]", "A-Za-z0-9_"},
                   {'s', "[[:space:]]", "[:space:]"},
                   {'-', "-", NULL}};
    for (size_t i = 0; i < sizeof classes / sizeof *classes; i++)
        if (classes[i].c == c)
            return bracket ? classes[i].inside : classes[i].outside;
    if ((c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9') || !c)
        return NULL;
    room[0] = bracket ? c : '\\';
    room[1] = bracket ? 0 : c;
    room[2] = 0;
    return bracket && strchr("]^\\", c) ? NULL : room;
}

/* The same in POSIX's words; NULL: it cannot be said in them. */
static const char *translated(struct mos_arena *arena, const char *p) {
    struct mos_buf out = {.arena = arena};
    bool bracket = false, hyphen = false, repeats = false; /* the last one was * + ? or } */
    char room[3];
    for (; *p; p++) {
        bool repeated = repeats;
        repeats = !bracket && strchr("*+?}", *p);
        if (*p == '\\') {
            bool last_in_bracket = bracket && p[1] == '-';
            const char *text = escaped(*++p, bracket, room);
            if (!text && !last_in_bracket)
                return NULL;
            hyphen |= last_in_bracket; /* it goes to the end, where it means itself */
            mos_buf_text(&out, last_in_bracket ? "" : text);
        } else if (!bracket && *p == '(' && p[1] == '?') {
            if (p[2] != ':')
                return NULL;
            mos_buf_char(&out, '(');
            p += 2;
        } else if (repeats && repeated) {
            if (*p != '?')
                return NULL;
            repeats = false; /* the shortest that fits: whether one does is the same */
        } else {
            if (*p == '[' && !bracket) {
                bracket = true;
                hyphen = false;
            } else if (*p == ']' && bracket) {
                if (hyphen)
                    mos_buf_char(&out, '-');
                bracket = false;
            }
            mos_buf_char(&out, *p);
        }
    }
    return bracket ? NULL : mos_buf_string(&out);
}

bool mos_schema_pattern(struct mos_arena *arena, const char *pattern, const char *text,
                        bool *known) {
    regex_t regex;
    *known = false;
    if (strlen(pattern) > LONGEST_PATTERN || strlen(text) > LONGEST_TEXT)
        return false;
    const char *posix = translated(arena, pattern);
    if (!posix || regcomp(&regex, posix, REG_EXTENDED | REG_NOSUB))
        return false;
    int e = regexec(&regex, text, 0, NULL, 0);
    regfree(&regex);
    *known = e == 0 || e == REG_NOMATCH;
    return e == 0;
}
