#include "base/text.h"

#include "base/buf.h"
#include "base/bytes.h"

#include <assert.h>
#include <ctype.h>
#include <string.h>

static const struct {
    const char *name;
    uint64_t bytes;
} binary_units[] = {{"GiB", 1ull << 30}, {"MiB", 1ull << 20}, {"KiB", 1ull << 10}};

const char *mos_size_exact(struct mos_arena *arena, uint64_t bytes) {
    for (size_t i = 0; i < 3 && bytes; i++)
        if (bytes % binary_units[i].bytes == 0)
            return mos_printf(arena, "%llu %s", (unsigned long long)(bytes / binary_units[i].bytes),
                              binary_units[i].name);
    return mos_printf(arena, "%llu B", (unsigned long long)bytes);
}

const char *mos_size_text(struct mos_arena *arena, uint64_t bytes) {
    enum { MOST_READ = 10000 }; /* more digits than four are not read, but counted */
    for (size_t i = 0; i < 3 && bytes; i++)
        if (bytes % binary_units[i].bytes == 0 && bytes / binary_units[i].bytes < MOST_READ)
            return mos_printf(arena, "%llu %s", (unsigned long long)(bytes / binary_units[i].bytes),
                              binary_units[i].name);
    if (bytes > 1024 && bytes % 512 == 0 && bytes < 1000 * 1024) /* sectors */
        return mos_printf(arena, "%llu.5 KiB", (unsigned long long)(bytes / 1024));
    return bytes < MOST_READ
               ? mos_printf(arena, "%llu byte%s", (unsigned long long)bytes, bytes == 1 ? "" : "s")
               : mos_size_about(arena, bytes);
}

const char *mos_size_about(struct mos_arena *arena, uint64_t bytes) {
    for (size_t i = 0; i < 3; i++) {
        uint64_t unit = binary_units[i].bytes;
        if (bytes < unit)
            continue;
        uint64_t tenths = bytes / unit * 10 + (bytes % unit * 10 + unit / 2) / unit;
        if (tenths >= 10000)
            return mos_printf(arena, "%llu %s", (unsigned long long)((tenths + 5) / 10),
                              binary_units[i].name);
        return mos_printf(arena, "%llu.%llu %s", (unsigned long long)(tenths / 10),
                          (unsigned long long)(tenths % 10), binary_units[i].name);
    }
    return mos_printf(arena, "%llu byte%s", (unsigned long long)bytes, bytes == 1 ? "" : "s");
}

const char *mos_span_text(struct mos_arena *arena, uint64_t start, uint64_t end) {
    assert(start <= end);
    for (size_t i = 0; i < 3; i++) {
        uint64_t unit = binary_units[i].bytes;
        if (start % unit == 0 && end % unit == 0)
            return mos_printf(arena, "%llu to %llu %s", (unsigned long long)(start / unit),
                              (unsigned long long)(end / unit), binary_units[i].name);
    }
    if (start % 512 == 0 && end % 512 == 0) /* sectors */
        return mos_printf(arena, "%llu%s to %llu%s KiB", (unsigned long long)(start / 1024),
                          start % 1024 ? ".5" : "", (unsigned long long)(end / 1024),
                          end % 1024 ? ".5" : "");
    return mos_printf(arena, "bytes %llu to %llu", (unsigned long long)start,
                      (unsigned long long)end);
}

const char *mos_address_text(struct mos_arena *arena, uint64_t address) {
    return mos_printf(arena, "0x%08llx", (unsigned long long)address);
}

enum mos_number_result mos_integer_parse(const char *text, uint64_t *value) {
    uint64_t v = 0;
    if (!*text)
        return MOS_NUMBER_NOT_ONE;
    for (; *text; text++) {
        if (!isdigit((unsigned char)*text))
            return MOS_NUMBER_NOT_ONE;
        if (!mos_mul(v, 10, &v) || !mos_add(v, (uint64_t)(*text - '0'), &v))
            return MOS_NUMBER_TOO_BIG;
    }
    *value = v;
    return MOS_NUMBER_OK;
}

enum mos_number_result mos_address_parse(const char *text, uint64_t *value) {
    if (text[0] != '0' || (text[1] != 'x' && text[1] != 'X') || !text[2])
        return MOS_NUMBER_NOT_ONE;
    uint64_t v = 0;
    size_t digits = 0;
    for (text += 2; *text; text++) {
        if (!isxdigit((unsigned char)*text))
            return MOS_NUMBER_NOT_ONE;
        if (digits && ++digits > 16)
            return MOS_NUMBER_TOO_BIG;
        int c = tolower((unsigned char)*text);
        v = v << 4 | (uint64_t)(c <= '9' ? c - '0' : c - 'a' + 10);
        if (v && !digits)
            digits = 1;
    }
    *value = v;
    return MOS_NUMBER_OK;
}

static bool unit_size(const char *unit, uint64_t sector, uint64_t *bytes) {
    static const struct {
        const char *name;
        uint64_t bytes;
    } units[] = {{"B", 1},     {"KiB", 1ull << 10}, {"MiB", 1ull << 20}, {"GiB", 1ull << 30},
                 {"kB", 1000}, {"MB", 1000000},     {"GB", 1000000000}};
    for (size_t i = 0; i < sizeof units / sizeof *units; i++)
        if (strcmp(unit, units[i].name) == 0) {
            *bytes = units[i].bytes;
            return true;
        }
    if (sector && (strcmp(unit, "sectors") == 0 || strcmp(unit, "sector") == 0)) {
        *bytes = sector;
        return true;
    }
    return false;
}

enum mos_number_result mos_size_parse(const char *text, uint64_t sector, uint64_t *bytes) {
    char digits[24];
    size_t n = strspn(text, "0123456789");
    if (n == 0)
        return MOS_NUMBER_NOT_ONE;
    if (n >= sizeof digits)
        return MOS_NUMBER_TOO_BIG;
    memcpy(digits, text, n);
    digits[n] = 0;
    uint64_t count, unit;
    enum mos_number_result r = mos_integer_parse(digits, &count);
    if (r)
        return r;
    text += n;
    text += strspn(text, " ");
    if (!*text)
        return MOS_NUMBER_NO_UNIT;
    if (!unit_size(text, sector, &unit))
        return MOS_NUMBER_NOT_ONE;
    /* 2^63 - 1 bytes: the largest offset a file can have */
    if (!mos_mul(count, unit, &count) || count > INT64_MAX)
        return MOS_NUMBER_TOO_BIG;
    *bytes = count;
    return MOS_NUMBER_OK;
}

/* Edit distance with neighbour swaps, given up above `limit`; words up to 63 bytes. */
static size_t distance(const char *a, const char *b, size_t limit) {
    size_t n = strlen(a), m = strlen(b);
    if (n > 63 || m > 63 || (n > m ? n - m : m - n) > limit)
        return limit + 1;
    size_t rows[3][64];
    for (size_t j = 0; j <= m; j++)
        rows[0][j] = j;
    for (size_t i = 1; i <= n; i++) {
        size_t *now = rows[i % 3], *before = rows[(i - 1) % 3], *older = rows[(i + 1) % 3];
        now[0] = i;
        for (size_t j = 1; j <= m; j++) {
            size_t best = before[j - 1] + (a[i - 1] != b[j - 1]);
            best = (size_t)mos_min(best, mos_min(before[j], now[j - 1]) + 1);
            if (i > 1 && j > 1 && a[i - 1] == b[j - 2] && a[i - 2] == b[j - 1])
                best = (size_t)mos_min(best, older[j - 2] + 1);
            now[j] = best;
        }
    }
    return rows[n % 3][m];
}

const char *mos_near(const char *word, const char *const *candidates, size_t count) {
    assert(candidates || !count);
    size_t length = strlen(word), best = (size_t)mos_max(length / 3, 1) + 1;
    const char *found = NULL;
    for (size_t i = 0; i < count; i++) {
        size_t d = distance(word, candidates[i], best - 1);
        if (d < best && d < strlen(candidates[i])) {
            best = d;
            found = candidates[i];
        }
    }
    return found;
}

/* Length of the well-formed sequence at p (at most `left` bytes), 0 if it is not one. */
static size_t utf8_sequence(const uint8_t *p, size_t left) {
    assert(left);
    if (p[0] < 0x80)
        return (p[0] >= 0x20 || p[0] == '\t' || p[0] == '\n' || p[0] == '\r') && p[0] != 0x7f;
    size_t n = p[0] >= 0xf0 ? 4 : p[0] >= 0xe0 ? 3 : 2;
    if (p[0] < 0xc2 || p[0] > 0xf4 || n > left)
        return 0;
    for (size_t i = 1; i < n; i++)
        if ((p[i] & 0xc0) != 0x80)
            return 0;
    if ((p[0] == 0xe0 && p[1] < 0xa0) || (p[0] == 0xed && p[1] > 0x9f) ||
        (p[0] == 0xf0 && p[1] < 0x90) || (p[0] == 0xf4 && p[1] > 0x8f))
        return 0;
    return n;
}

bool mos_utf8_valid(const char *text, size_t length, size_t *bad) {
    const uint8_t *p = (const uint8_t *)text;
    for (size_t i = 0; i < length;) {
        size_t n = utf8_sequence(p + i, length - i);
        if (!n) {
            *bad = i;
            return false;
        }
        i += n;
    }
    return true;
}

size_t mos_utf16_from_utf8(const char *text, uint16_t *out, size_t room) {
    assert(out || !room);
    const uint8_t *p = (const uint8_t *)text;
    size_t left = strlen(text), count = 0;
    while (left) {
        size_t n = *p < 0x80 ? 1 : utf8_sequence(p, left);
        if (!n)
            return SIZE_MAX;
        uint32_t c = n == 1 ? *p : *p & (0xffu >> (n + 1));
        for (size_t i = 1; i < n; i++)
            c = c << 6 | (p[i] & 0x3f);
        uint16_t units[2] = {(uint16_t)c, 0};
        size_t k = 1;
        if (c > 0xffff) {
            units[0] = (uint16_t)(0xd800 + ((c - 0x10000) >> 10));
            units[1] = (uint16_t)(0xdc00 + ((c - 0x10000) & 0x3ff));
            k = 2;
        }
        for (size_t i = 0; i < k; i++, count++)
            if (count < room)
                out[count] = units[i];
        p += n;
        left -= n;
    }
    return count;
}

const char *mos_utf8_from_utf16(struct mos_arena *arena, const uint16_t *units, size_t count) {
    char *out = mos_alloc(arena, count * 3 + 1), *p = out;
    for (size_t i = 0; i < count && units[i]; i++) {
        uint32_t c = units[i];
        if (c >= 0xd800 && c < 0xdc00 && i + 1 < count && units[i + 1] >= 0xdc00 &&
            units[i + 1] < 0xe000)
            c = 0x10000 + ((c - 0xd800) << 10) + (units[++i] - 0xdc00u);
        else if (c >= 0xd800 && c < 0xe000)
            c = 0xfffd;
        if (c < 0x80) {
            *p++ = (char)c;
        } else if (c < 0x800) {
            *p++ = (char)(0xc0 | c >> 6);
            *p++ = (char)(0x80 | (c & 0x3f));
        } else {
            if (c < 0x10000) {
                *p++ = (char)(0xe0 | c >> 12);
            } else {
                *p++ = (char)(0xf0 | c >> 18);
                *p++ = (char)(0x80 | (c >> 12 & 0x3f));
            }
            *p++ = (char)(0x80 | (c >> 6 & 0x3f));
            *p++ = (char)(0x80 | (c & 0x3f));
        }
    }
    return out;
}

const char *mos_next_line(const char *line) {
    const char *end = strchr(line, '\n');
    return end ? end + 1 : line + strlen(line);
}

const char *mos_field(struct mos_arena *arena, const char *line, unsigned n) {
    for (; n; n--) {
        line += strcspn(line, ":\n");
        if (*line != ':')
            return "";
        line++;
    }
    return mos_strndup(arena, line, strcspn(line, ":\n"));
}

bool mos_glob(const char *pattern, const char *text, size_t length, char barrier) {
    assert(text || !length);
    size_t at = 0, star_at = 0;
    const char *star = NULL;
    while (at < length) {
        if (*pattern == '*') {
            star = ++pattern;
            star_at = at;
        } else if (*pattern && (*pattern == text[at] || (*pattern == '?' && text[at] != barrier))) {
            pattern++;
            at++;
        } else if (star && text[star_at] != barrier) {
            pattern = star;
            at = ++star_at;
        } else {
            return false;
        }
    }
    while (*pattern == '*')
        pattern++;
    return !*pattern;
}

int64_t mos_days_of_date(int64_t year, int64_t month, int64_t day) {
    assert(month >= 1 && month <= 12 && day >= 1 && day <= 31);
    year -= month <= 2; /* years begin in March: the odd day comes last */
    int64_t era = (year >= 0 ? year : year - 399) / 400, of_era = year - era * 400;
    int64_t of_year = (153 * (month + (month > 2 ? -3 : 9)) + 2) / 5 + day - 1;
    return era * 146097 + of_era * 365 + of_era / 4 - of_era / 100 + of_year - 719468;
}

void mos_date_of_days(int64_t days, int64_t *year, int64_t *month, int64_t *day) {
    int64_t z = days + 719468, era = (z >= 0 ? z : z - 146096) / 146097, of_era = z - era * 146097;
    int64_t y = (of_era - of_era / 1460 + of_era / 36524 - of_era / 146096) / 365;
    int64_t of_year = of_era - (365 * y + y / 4 - y / 100), m = (5 * of_year + 2) / 153;
    *day = of_year - (153 * m + 2) / 5 + 1;
    *month = m < 10 ? m + 3 : m - 9;
    *year = y + era * 400 + (*month <= 2);
    assert(*month >= 1 && *month <= 12 && *day >= 1 && *day <= 31);
}

bool mos_text_ends(const char *text, const char *end) {
    size_t n = strlen(text), k = strlen(end);
    return n >= k && strcmp(text + n - k, end) == 0;
}

const char *mos_shell_word(struct mos_arena *arena, const char *text) {
    struct mos_buf out = {.arena = arena};
    if (*text && !text[strspn(text, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789"
                                    "-_./=,:+@%")])
        return text;
    mos_buf_text(&out, "'");
    for (; *text; text++)
        if (*text == '\'')
            mos_buf_text(&out, "'\\''");
        else
            mos_buf_add(&out, text, 1);
    mos_buf_text(&out, "'");
    return mos_buf_string(&out);
}

bool mos_is_name(const char *text) {
    static const char *const letters =
        "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789-_.";
    size_t n = strspn(text, letters);
    return n && n <= 64 && !text[n] && !strchr("-_.", text[0]);
}
