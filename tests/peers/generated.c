#include "generated.h"

#include "content/attributes.h"
#include "content/content.h"

#include <stdlib.h>
#include <string.h>

static void random_name(struct generator *g, char *name, size_t size) {
    static const char *const parts[] = {"tide", "Wattwurm", "潮", "a b", "x.y.z",
                                        "LOG",  "#1",       "ü",  "-",   "~"};
    size_t n = 1 + random_below(&g->seed, 4);
    name[0] = 0;
    for (size_t i = 0; i < n && strlen(name) + 16 < size; i++)
        strcat(name, parts[random_below(&g->seed, 10)]);
    snprintf(name + strlen(name), size - strlen(name), "%llu",
             (unsigned long long)random_below(&g->seed, 100000));
    if (random_below(&g->seed, 40) == 0 && size > 256) { /* as long as a name may be */
        size_t at = strlen(name);
        memset(name + at, 'n', 200);
        name[at + 200] = 0;
    }
}

static void random_file(struct generator *g, struct mos_entry *e) {
    static uint8_t bytes[1 << 19];
    size_t kind = random_below(&g->seed, 20);
    size_t length = kind == 0   ? 0
                    : kind < 18 ? random_below(&g->seed, 9000)
                                : random_below(&g->seed, sizeof bytes);
    for (size_t i = 0; i < length; i++)
        bytes[i] = (uint8_t)(i * 31 + g->seed + (i >> 12));
    if (kind > 18 && length > 20000) /* a hole every other 4 KiB: many extents */
        for (size_t i = 0; i + 8192 < length; i += 8192)
            memset(bytes + i, 0, 4096);
    CU_ASSERT_TRUE(mos_bytes_stream(e, bytes, length, &g->sink));
}

/* Extended attributes as archives bring them: small ones in the inode, large ones in a block. */
static void random_attributes(struct generator *g, struct mos_arena *arena, struct mos_entry *e) {
    static const char *const names[] = {"security.selinux", "security.capability", "user.note",
                                        "trusted.origin"};
    struct mos_attribute_set set = mos_attribute_set_make(arena);
    struct mos_buf list = {.arena = arena};
    uint8_t value[600];
    size_t count = random_below(&g->seed, 8) ? 0 : 1 + random_below(&g->seed, 3);
    memset(value, 'v', sizeof value);
    for (size_t i = 0; i < count; i++) {
        const char *name = !g->seconds || i == 0 ? names[i]
                           : i == 1              ? "trusted.gauge"
                                                 : "trusted.note";
        mos_attribute_add(&set, name, strlen(name), value,
                          1 + random_below(&g->seed, i == 2 ? 500 : 30));
    }
    mos_attribute_pack(&set, &list);
    e->attributes = (const uint8_t *)list.data;
    e->attributes_length = list.length;
}

static void random_entry(struct generator *g, const char *folder, char *path, size_t size) {
    static const enum mos_entry_type types[] = {MOS_ENTRY_LINK, MOS_ENTRY_HARD_LINK,
                                                MOS_ENTRY_CHAR, MOS_ENTRY_BLOCK,
                                                MOS_ENTRY_FIFO, MOS_ENTRY_SOCKET};
    char name[300], target[300];
    random_name(g, name, sizeof name);
    snprintf(path, size, "%s%s%s", folder, *folder ? "/" : "", name);
    struct mos_entry e = {.path = path,
                          .mode = (uint16_t)(g->fat ? 0644 : random_below(&g->seed, 010000)),
                          .mtime = (int64_t)random_below(&g->seed, 4000000000u),
                          .target = target};
    if (!g->fat) {
        e.uid = (uint32_t)random_below(&g->seed, 100000);
        e.gid = (uint32_t)random_below(&g->seed, 100000);
        e.mtime_ns = g->seconds ? 0 : (uint32_t)random_below(&g->seed, 1000000000);
        random_attributes(g, g->arena, &e);
    }
    if (g->fat || random_below(&g->seed, 10) < 7) {
        random_file(g, &e);
        strcpy(g->last_file, strlen(path) < sizeof g->last_file ? path : "");
        return;
    }
    e.type = types[random_below(&g->seed, 6)];
    e.major = (uint32_t)random_below(&g->seed, 512);
    e.minor = (uint32_t)random_below(&g->seed, 1 << 20);
    memset(target, 'l', sizeof target);
    target[1 + random_below(&g->seed, 250)] = 0;
    if (e.type == MOS_ENTRY_HARD_LINK && !*g->last_file)
        return;
    if (e.type == MOS_ENTRY_HARD_LINK) {
        strcpy(target, g->last_file);
        e.attributes_length = 0; /* those of its first name count */
    }
    CU_ASSERT_TRUE(g->sink.entry(g->sink.self, &e) && g->sink.end(g->sink.self, 0));
}

static void random_tree(struct generator *g, const char *folder, unsigned depth) {
    char path[8000];
    size_t here = random_below(&g->seed, 40);
    for (size_t i = 0; i < here && g->entries; i++) {
        g->entries--;
        random_entry(g, folder, path, sizeof path);
    }
    size_t folders = depth < 12 ? random_below(&g->seed, 6) : 0;
    for (size_t i = 0; i < folders && g->entries; i++) {
        char name[120];
        g->entries--;
        random_name(g, name, 100);
        snprintf(path, sizeof path, "%s%s%s", folder, *folder ? "/" : "", name);
        struct mos_entry e = {
            .path = strdup(path), .type = MOS_ENTRY_FOLDER, .mode = 0755, .mtime = 1700000000};
        CU_ASSERT_TRUE(g->sink.entry(g->sink.self, &e) && g->sink.end(g->sink.self, 0));
        random_tree(g, e.path, depth + 1);
        free((char *)(uintptr_t)e.path);
    }
}

void generate_tree(struct generator *g) {
    for (int i = 0; g->entries && i < (g->entries > 5000 ? 4000 : 40); i++)
        random_tree(g, "", 0);
}
