/* The two streams that everything is printed through, and the only place that writes to a terminal.
 *
 * Whatever a name, a file or an image holds, no control character of it gets out: not those of
 * ASCII but tab and line end, not 0x7f, not U+0080 to U+009F, no marks that turn the direction of
 * text, no bytes that are no text.  Our own colours are told by a sign that nobody else can know:
 * it is made anew in every run. */
#include "cli/cli.h"
#include "platform/platform.h"

#include <assert.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

enum { NONCE = 16, SIGN = 1 + NONCE + 1 }; /* escape, nonce, a letter */

struct printer {
    int file;
    bool ascii; /* a terminal that is not UTF-8 */
    bool json;  /* inside of strings: escapes in place of marks */
    bool failed;
    char kept[SIGN]; /* the beginning of a character or a sign whose end is still to come */
    size_t kept_length;
};

static struct printer printers[2] = {{.file = 1}, {.file = 2}};
static char nonce[NONCE + 1];
FILE *to_out, *to_err;

static const char *const codes[] = {
    [STYLE_ERROR] = "\033[1;91m", [STYLE_WARNING] = "\033[1;93m", [STYLE_NOTE] = "\033[1;96m",
    [STYLE_STRONG] = "\033[1m",   [STYLE_DIM] = "\033[90m",       [STYLE_GOOD] = "\033[1;92m",
    [STYLE_END] = "\033[0m"};

const char *style(const struct cli *cli, enum style s) {
    static char signs[sizeof codes / sizeof *codes][SIGN + 1];
    if (!cli->color)
        return "";
    snprintf(signs[s], sizeof signs[s], "\033%s%c", nonce, 'A' + (int)s);
    return signs[s];
}

static void put(struct printer *p, const char *bytes, size_t length) {
    while (length && !p->failed) {
        ssize_t n = write(p->file, bytes, length);
        if (n < 0) {
            p->failed = true;
            return;
        }
        bytes += n;
        length -= (size_t)n;
    }
}

/* The number of the character that begins at p (n bytes are there) and its length; length 0: more
 * bytes are needed; number UINT32_MAX: it is none. */
static uint32_t character(const unsigned char *p, size_t n, size_t *length) {
    assert(n);
    size_t need = *p < 0x80 ? 1 : *p >= 0xf0 && *p < 0xf5 ? 4 : *p >= 0xe0 ? 3 : *p >= 0xc2 ? 2 : 0;
    uint32_t c = need == 1 ? *p : need == 2 ? *p & 0x1fu : need == 3 ? *p & 0x0fu : *p & 0x07u;
    *length = 1;
    if (!need || *p >= 0xf5)
        return UINT32_MAX;
    for (size_t i = 1; i < need; i++) {
        if (i >= n) {
            *length = 0;
            return 0;
        }
        if ((p[i] & 0xc0) != 0x80)
            return UINT32_MAX;
        c = c << 6 | (p[i] & 0x3fu);
    }
    bool longer = (need == 3 && c < 0x800) || (need == 4 && c < 0x10000);
    if (longer || (c >= 0xd800 && c < 0xe000) || c > 0x10ffff)
        return UINT32_MAX;
    *length = need;
    return c;
}

static bool is_harmless(uint32_t c) {
    if (c < 0x20)
        return c == '\n' || c == '\t';
    return c != UINT32_MAX && !(c >= 0x7f && c < 0xa0) && c != 0x61c && c != 0x200e &&
           c != 0x200f && !(c >= 0x2028 && c <= 0x202e) && !(c >= 0x2066 && c <= 0x2069) &&
           c != 0xfeff && !(c >= 0xfff9 && c <= 0xfffb) && !(c >= 0xe0000 && c < 0xe0080);
}

static void put_character(struct printer *p, uint32_t c, const char *bytes, size_t length) {
    char escape[16];
    if (is_harmless(c) && !(p->ascii && c >= 0x80))
        put(p, bytes, length);
    else if (p->json && c < 0x10000)
        put(p, escape, (size_t)snprintf(escape, sizeof escape, "\\u%04x", (unsigned)c));
    else
        put(p, "?", 1);
}

/* Everything printed comes by here. */
static size_t filter(void *self, const char *bytes, size_t length) {
    struct printer *p = self;
    char *all = malloc(p->kept_length + length);
    if (!all)
        return 0;
    memcpy(all, p->kept, p->kept_length);
    memcpy(all + p->kept_length, bytes, length);
    size_t n = p->kept_length + length, at = 0, plain = 0; /* plain: from here on nothing is put */
    assert(n >= length);
    p->kept_length = 0;
    while (at < n) {
        size_t taken = 1;
        if ((unsigned char)all[at] >= 0x20 && (unsigned char)all[at] < 0x7f) {
            at++;
            continue;
        }
        put(p, all + plain, at - plain);
        size_t sign = n - at < SIGN ? n - at : SIGN;
        bool ours = all[at] == '\033' && *nonce &&
                    memcmp(all + at + 1, nonce, sign > NONCE ? NONCE : sign - 1) == 0;
        if (ours && sign == SIGN &&
            (size_t)(all[at + SIGN - 1] - 'A') < sizeof codes / sizeof *codes) {
            const char *code = codes[all[at + SIGN - 1] - 'A'];
            put(p, code, strlen(code));
            taken = SIGN;
        } else {
            uint32_t c = character((unsigned char *)all + at, n - at, &taken);
            if (!taken || (ours && sign < SIGN)) { /* wait for its end */
                memcpy(p->kept, all + at, n - at < SIGN ? n - at : SIGN);
                p->kept_length = n - at;
                plain = n;
                break;
            }
            put_character(p, c, all + at, taken);
        }
        at += taken;
        plain = at;
    }
    put(p, all + plain, n - plain);
    free(all);
    return p->failed ? 0 : length;
}

bool out_open(bool unicode) {
    uint8_t random[NONCE / 2];
    if (mos_platform_random(random, sizeof random))
        for (size_t i = 0; i < sizeof random; i++)
            snprintf(nonce + 2 * i, 3, "%02x", random[i]);
    for (size_t i = 0; i < 2; i++)
        printers[i].ascii = !unicode && isatty(printers[i].file);
    to_out = mos_platform_stream(filter, &printers[0]);
    to_err = mos_platform_stream(filter, &printers[1]);
    if (to_err)
        setvbuf(to_err, NULL, _IOLBF, BUFSIZ);
    return to_out && to_err;
}

void out_give_up(const char *why) {
    fflush(to_out);
    fprintf(to_err, "mosaicum: %s\n", why);
    printers[0].failed = true;
}

void out_json(bool json) {
    fflush(to_out);
    printers[0].json = json;
}

bool out_bytes(const void *bytes, size_t length) {
    fflush(to_out);
    put(&printers[0], bytes, length);
    return !printers[0].failed;
}

void out_progress(const char *text) {
    fflush(to_err);
    put(&printers[1], "\r\033[K", 4);
    fputs(text, to_err);
    fflush(to_err);
}

bool out_close(void) {
    for (size_t i = 0; i < 2; i++) {
        FILE *f = i ? to_err : to_out;
        if (f)
            fclose(f);
        if (printers[i].kept_length) /* it never ended */
            put(&printers[i], "?", 1);
        printers[i].kept_length = 0;
    }
    to_out = to_err = NULL;
    return !printers[0].failed;
}

const char *one_line(const char *text) {
    static char *lines[8]; /* a ring: longer than any one line needs */
    static size_t next;
    if (!text || !strpbrk(text, "\n\r\t"))
        return text;
    free(lines[next]);
    char *copy = lines[next] = strdup(text);
    next = (next + 1) % (sizeof lines / sizeof *lines);
    for (char *p = copy; p && *p; p++)
        if (*p == '\n' || *p == '\r' || *p == '\t')
            *p = ' ';
    return copy ? copy : "";
}
