/* Directories (section 6 and 7): long names with correct short ones. */
#include "fs/fat/fat_internal.h"

#include "base/bytes.h"
#include "base/map.h"
#include "base/text.h"

#include <assert.h>
#include <ctype.h>
#include <string.h>

enum {
    MOST_UNITS = 255,
};

const char *fat_bad_name(const char *name) {
    uint16_t units[MOST_UNITS];
    size_t n = strlen(name), count = mos_utf16_from_utf8(name, units, MOST_UNITS);
    if (count == SIZE_MAX)
        return "has a name that is no UTF-8";
    if (count > MOST_UNITS)
        return "has a name of more than 255 characters";
    for (size_t i = 0; i < n; i++)
        if ((unsigned char)name[i] < 0x20 || strchr("\"*/:<>?\\|", name[i]))
            return "has a character in its name that FAT does not allow";
    if (n && (name[n - 1] == '.' || name[n - 1] == ' '))
        return "has a name that ends in a dot or a space";
    return NULL;
}

static bool short_character(int c) {
    return isupper(c) || isdigit(c) || (c && strchr("$%'-_@~`!(){}^#&", c));
}

/* One part of a name that may fit 8.3 as it is, in capitals; false: it does not.  *lower, *upper:
 * has it such letters? */
static bool short_part(const char *from, size_t length, uint8_t *to, bool *lower, bool *upper) {
    for (size_t i = 0; i < length; i++) {
        int c = (unsigned char)from[i];
        *lower |= c >= 'a' && c <= 'z';
        *upper |= c >= 'A' && c <= 'Z';
        to[i] = (uint8_t)(c >= 'a' && c <= 'z' ? c - 'a' + 'A' : c);
        if (!short_character(to[i]))
            return false;
    }
    return true;
}

/* Does a name fit 8.3 but for the case of its letters?  Then `out` (11 bytes, blank padded) is it
 * in capitals, and *whole tells whether `flags` (LOWER_…) say the rest, so that it needs no long
 * name: so it is when neither part mixes its letters. */
static bool is_short(const char *name, uint8_t out[11], uint8_t *flags, bool *whole) {
    const char *dot = strchr(name, '.');
    size_t base = dot ? (size_t)(dot - name) : strlen(name), extension = dot ? strlen(dot + 1) : 0;
    bool lower[2] = {false, false}, upper[2] = {false, false};
    if (!base || base > 8 || extension > 3 || (dot && !extension))
        return false;
    memset(out, ' ', 11);
    if (!short_part(name, base, out, &lower[0], &upper[0]) ||
        (dot && !short_part(dot + 1, extension, out + 8, &lower[1], &upper[1])))
        return false;
    *whole = !(lower[0] && upper[0]) && !(lower[1] && upper[1]);
    *flags = *whole ? (uint8_t)((lower[0] ? LOWER_BASE : 0) | (lower[1] ? LOWER_EXTENSION : 0)) : 0;
    return true;
}

/* Up to `most` characters of a part as a short name has them: dots and blanks are left out, what it
 * cannot hold becomes an underscore. */
static void shorten(const char *from, const char *end, size_t most, char *to) {
    size_t n = 0;
    for (const char *p = from; p < end && n < most; p++) {
        int c = (unsigned char)*p;
        if (c == ' ' || c == '.' || (c & 0xc0) == 0x80) /* the rest of a character */
            continue;
        c = c >= 'a' && c <= 'z' ? c - 'a' + 'A' : c;
        to[n++] = (char)(short_character(c) ? c : '_');
    }
    to[n] = 0;
}

/* A short name made from a long one: up to 8 and 3 good characters, ~n before the dot. */
static void make_short(const char *name, struct mos_map *taken, struct mos_arena *arena,
                       uint8_t out[11]) {
    const char *dot = strrchr(name, '.'), *end = name + strlen(name);
    char base[9] = "", extension[4] = "";
    if (dot && strspn(name, ". ") >= (size_t)(dot - name)) /* nothing before it: no extension */
        dot = NULL;
    shorten(name, dot ? dot : end, 8, base);
    if (dot)
        shorten(dot + 1, end, 3, extension);
    for (unsigned n = 1;; n++) {
        const char *tail = mos_printf(arena, "~%u", n);
        const char *key = mos_printf(arena, "%.*s%s", 8 - (int)strlen(tail), base, tail);
        char *full = mos_printf(arena, "%-8s%-3s", key, extension);
        if (mos_map_get(taken, full))
            continue;
        mos_map_set(taken, full, full);
        memcpy(out, full, 11);
        return;
    }
}

const uint8_t fat_long_places[FAT_LONG_UNITS] = {1, 3, 5, 7, 9, 14, 16, 18, 20, 22, 24, 28, 30};

uint8_t fat_short_sum(const uint8_t name[11]) {
    uint8_t sum = 0;
    for (size_t i = 0; i < 11; i++)
        sum = (uint8_t)((sum >> 1 | sum << 7) + name[i]);
    return sum;
}

static void put_long(struct mos_buf *b, const char *name, const uint8_t short_name[11]) {
    uint16_t units[MOST_UNITS + FAT_LONG_UNITS];
    size_t count = mos_utf16_from_utf8(name, units, MOST_UNITS);
    assert(count && count <= MOST_UNITS);
    size_t entries = (count + FAT_LONG_UNITS - 1) / FAT_LONG_UNITS;
    for (size_t n = entries; n; n--) {
        uint8_t e[FAT_ENTRY] = {(uint8_t)(n | (n == entries ? LAST_LONG : 0))};
        e[ENTRY_ATTRIBUTES] = LONG_ENTRY;
        e[LONG_SUM] = fat_short_sum(short_name);
        for (size_t i = 0; i < FAT_LONG_UNITS; i++) {
            size_t at = (n - 1) * FAT_LONG_UNITS + i;
            mos_put_le16(e + fat_long_places[i], at < count ? units[at] : at == count ? 0 : 0xffff);
        }
        mos_buf_add(b, e, FAT_ENTRY);
    }
}

/* Seconds since 1970 to FAT's date and time (UTC), from 1980 to 2107. */
static void put_date(uint8_t *e, int64_t seconds) {
    int64_t days = seconds / 86400, rest = seconds % 86400;
    if (seconds < 315532800 || seconds > 4354819199) { /* outside: 1980-01-01 */
        days = 3652;
        rest = 0;
    }
    int64_t year, month, day;
    mos_date_of_days(days, &year, &month, &day);
    assert(year >= 1980 && year <= 2107);
    uint16_t date = (uint16_t)((year - 1980) << 9 | month << 5 | day);
    uint16_t time = (uint16_t)(rest / 3600 << 11 | rest % 3600 / 60 << 5 | rest % 60 / 2);
    mos_put_le16(e + ENTRY_CREATED_TIME, time);
    mos_put_le16(e + ENTRY_CREATED_DATE, date);
    mos_put_le16(e + ENTRY_READ_DATE, date);
    mos_put_le16(e + ENTRY_TIME, time);
    mos_put_le16(e + ENTRY_DATE, date);
}

static void put_short(struct mos_buf *b, const uint8_t name[11], uint8_t flags, uint8_t attributes,
                      int64_t date, uint64_t size, uint32_t cluster) {
    assert(cluster != 1);
    uint8_t e[FAT_ENTRY] = {0};
    memcpy(e, name, 11);
    e[ENTRY_ATTRIBUTES] = attributes;
    e[ENTRY_FLAGS] = flags;
    put_date(e, date);
    mos_put_le16(e + ENTRY_CLUSTER_HIGH, (uint16_t)(cluster >> 16));
    mos_put_le16(e + ENTRY_CLUSTER, (uint16_t)cluster);
    if (!(attributes & (IS_FOLDER | IS_LABEL)))
        mos_put_le32(e + ENTRY_SIZE, (uint32_t)size);
    mos_buf_add(b, e, FAT_ENTRY);
}

/* Is a short name free, or this name's own? */
static bool is_free(const struct mos_map *taken, struct mos_arena *arena,
                    const uint8_t short_name[11], const char *name) {
    const char *owner = mos_map_get(taken, mos_strndup(arena, (const char *)short_name, 11));
    return !owner || owner == name;
}

void fat_put_name(struct mos_buf *b, const char *name, struct mos_map *taken, uint8_t attributes,
                  int64_t date, uint32_t cluster, uint64_t size) {
    uint8_t short_name[11], flags = 0;
    bool whole = false;
    bool fits =
        is_short(name, short_name, &flags, &whole) && is_free(taken, b->arena, short_name, name);
    if (!fits) {
        flags = 0;
        make_short(name, taken, b->arena, short_name);
    }
    if (!fits || !whole)
        put_long(b, name, short_name);
    put_short(b, short_name, flags, attributes, date, size, cluster);
}

void fat_put_dots(struct mos_buf *b, uint32_t self, uint32_t parent, int64_t date) {
    put_short(b, (const uint8_t *)".          ", 0, IS_FOLDER, date, 0, self);
    put_short(b, (const uint8_t *)"..         ", 0, IS_FOLDER, date, 0, parent);
}

static uint32_t first_cluster(const struct mos_inv_node *n) {
    return n->extent_count ? mos_inv_extents(n)->physical : 0;
}

/* The bytes of a folder.  Its clusters are known from the second pass on. */
static void fill_folder(struct fat *v, uint32_t index, struct mos_buf *b) {
    struct mos_inventory *inv = v->base.inventory;
    struct mos_inv_node *node = mos_inv_node(inv, index);
    struct mos_map taken = mos_map_make(b->arena);
    uint8_t name[11], flags;
    bool whole;
    b->length = 0;
    if (!index && *v->base.wish.label) {
        memset(name, ' ', 11);
        for (size_t i = 0; i < 11 && v->base.wish.label[i]; i++)
            name[i] = (uint8_t)toupper((unsigned char)v->base.wish.label[i]);
        put_short(b, name, 0, IS_LABEL, node->mtime, 0, 0);
    }
    if (index) {
        fat_put_dots(b, first_cluster(node),
                     node->parent ? first_cluster(mos_inv_node(inv, node->parent)) : 0,
                     node->mtime);
    }
    for (uint32_t i = node->first_child; i; i = mos_inv_node(inv, i)->next) {
        const struct mos_inv_node *c = mos_inv_node(inv, i);
        if (is_short(c->name, name, &flags, &whole))
            mos_map_set_const(&taken, mos_strndup(b->arena, (char *)name, 11), c->name);
    }
    for (uint32_t i = node->first_child; i; i = mos_inv_node(inv, i)->next) {
        const struct mos_inv_node *c = mos_inv_node(inv, i);
        fat_put_name(b, c->name, &taken, c->type == MOS_ENTRY_FOLDER ? IS_FOLDER : IS_FILE,
                     c->mtime, first_cluster(c), c->size);
    }
}

void fat_write_folders(struct fat *v) {
    struct mos_inventory *inv = v->base.inventory;
    struct mos_buf b = {.arena = v->base.ctx->arena};
    for (uint32_t i = 0; i < inv->count; i++) {
        struct mos_inv_node *n = mos_inv_node(inv, i);
        if (n->type != MOS_ENTRY_FOLDER)
            continue;
        fill_folder(v, i, &b);
        if (i || v->bits == 32)
            fat_take(v, n, (uint32_t)mos_max(mos_div_up(b.length, v->cluster), 1));
        else if (b.length > (size_t)v->root_entries * FAT_ENTRY)
            mos_inv_refuse(inv, "", 0,
                           "has more entries in its root folder than this kind of FAT "
                           "can hold");
    }
    for (uint32_t i = 0; i < inv->count && v->base.io; i++) {
        const struct mos_inv_node *n = mos_inv_node(inv, i);
        if (n->type != MOS_ENTRY_FOLDER)
            continue;
        fill_folder(v, i, &b);
        if (!i && v->bits != 32) {
            mos_volume_write(&v->base, b.data, b.length, v->root);
            continue;
        }
        mos_buf_zeros(&b, (size_t)mos_round_up(b.length + !b.length, v->cluster) - b.length);
        mos_volume_write(&v->base, b.data, b.length, fat_offset(v, first_cluster(n)));
    }
}
