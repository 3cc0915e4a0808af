/* Texts as YAML: whatever they hold, they read back as they were. */
#include "model/yaml.h"

#include "base/text.h"

#include <string.h>

/* Characters that YAML only takes as escapes: how many bytes one has here (0: it is none), and its
 * number.  A byte that is no UTF-8 is one of them, as the character of that number. */
static size_t special(const char *text, unsigned *number) {
    const unsigned char *p = (const unsigned char *)text;
    *number = p[0];
    if (p[0] < 0x20 || p[0] == 0x7f)
        return 1;
    if (p[0] < 0x80)
        return 0;
    size_t length = p[0] >= 0xf0 ? 4 : p[0] >= 0xe0 ? 3 : 2, bad;
    if (memchr(text, 0, length) || !mos_utf8_valid(text, length, &bad)) {
        bool control = p[0] == 0xc2 && p[1] >= 0x80 && p[1] < 0xa0;
        *number = control ? p[1] : p[0];
        return control ? 2 : 1;
    }
    *number = p[1];
    if (p[0] == 0xc2 && p[1] < 0xa0) /* control characters, and a line end */
        return 2;
    if (p[0] == 0xe2 && p[1] == 0x80 && (p[2] == 0xa8 || p[2] == 0xa9)) { /* line ends */
        *number = 0x2000u | (p[2] & 0x3fu);
        return 3;
    }
    bool mark = p[0] == 0xef && p[1] == 0xbb && p[2] == 0xbf;
    bool none = p[0] == 0xef && p[1] == 0xbf && p[2] >= 0xbe;
    *number = mark ? 0xfeff : 0xffc0u | (length == 3 ? p[2] & 0x3fu : 0);
    return mark || none ? 3 : 0;
}

/* Bytes of the character at text: those that it may be escaped for, else its whole sequence. */
static size_t width(const char *text, size_t escaped) {
    unsigned char c = (unsigned char)*text;
    return escaped ? escaped : c >= 0xf0 ? 4 : c >= 0xe0 ? 3 : c >= 0xc0 ? 2 : 1;
}

static bool plain(const char *text) {
    size_t n = strlen(text);
    unsigned number;
    for (const char *p = text; *p; p++)
        if ((unsigned char)*p >= 0x80 || special(p, &number))
            return false;
    return n && !strpbrk(text, ":#{}[],&*!|>'\"%@`\n\t\\") && !strchr("-? <=~.", text[0]) &&
           text[n - 1] != ' ';
}

void mos_yaml_scalar(struct mos_buf *out, const char *text) {
    if (plain(text)) {
        mos_buf_text(out, text);
        return;
    }
    mos_buf_char(out, '"');
    for (size_t n; *text; text += n) {
        unsigned number;
        size_t taken = special(text, &number);
        n = width(text, taken);
        if (*text == '"' || *text == '\\')
            mos_buf_printf(out, "\\%c", *text);
        else if (*text == '\n')
            mos_buf_text(out, "\\n");
        else if (*text == '\t')
            mos_buf_text(out, "\\t");
        else if (taken)
            mos_buf_printf(out, number < 0x100 ? "\\x%02x" : "\\u%04x", number);
        else
            mos_buf_add(out, text, n);
    }
    mos_buf_char(out, '"');
}

void mos_yaml_comment(struct mos_buf *out, const char *text) {
    for (size_t n; *text; text += n) {
        unsigned number;
        size_t taken = special(text, &number);
        n = width(text, taken);
        if (taken)
            mos_buf_char(out, '?');
        else
            mos_buf_add(out, text, n);
    }
}
