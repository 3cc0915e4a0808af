/* Results of probes from one run to the next. */
#include "kconfig/probe.h"

#include "base/hash.h"

#include <inttypes.h>
#include <string.h>

/* Variables whose first word is a program that probes start. */
static const char *const tools[] = {"CC",     "LD",     "AR",    "NM",      "OBJCOPY", "READELF",
                                    "HOSTCC", "PAHOLE", "RUSTC", "BINDGEN", NULL};

static const char *variable(const struct mos_kc_probes *p, const char *name) {
    size_t n = strlen(name);
    for (size_t i = 0; p->environment[i]; i++)
        if (strncmp(p->environment[i], name, n) == 0 && p->environment[i][n] == '=')
            return p->environment[i] + n + 1;
    return "";
}

/* Size and times of a file; "-": there is none. */
static void add_stamp(struct mos_kc_probes *p, const char *path, struct mos_buf *out) {
    struct mos_file_info info;
    if (p->ctx->host->info(p->ctx->host, path, true, &info))
        mos_buf_printf(out, "%s -\n", path);
    else
        mos_buf_printf(out, "%s %" PRIu64 " %" PRId64 ".%u %" PRIu64 "\n", path, info.size,
                       info.mtime_s, info.mtime_ns, info.inode);
}

/* The file that a name in PATH leads to: all that come before it are not there. */
static void add_program(struct mos_kc_probes *p, const char *name, struct mos_buf *out) {
    struct mos_file_info info;
    size_t length = strcspn(name, " ");
    if (memchr(name, '/', length)) {
        add_stamp(p, mos_strndup(p->ctx->arena, name, length), out);
        return;
    }
    for (const char *folder = variable(p, "PATH"); *folder && length;) {
        size_t n = strcspn(folder, ":");
        const char *path =
            mos_printf(p->ctx->arena, "%.*s/%.*s", (int)n, folder, (int)length, name);
        if (!p->ctx->host->info(p->ctx->host, path, true, &info)) {
            add_stamp(p, path, out);
            return;
        }
        folder += n + (folder[n] != 0);
    }
    mos_buf_printf(out, "%.*s -\n", (int)length, name);
}

void mos_kc_probes_key(struct mos_kc_probes *p, char key[65]) {
    struct mos_buf text = {.arena = p->ctx->arena};
    uint8_t hash[MOS_SHA256_SIZE];
    mos_buf_printf(&text, "%s\n", mos_revision);
    for (size_t i = 0; p->environment[i]; i++)
        mos_buf_printf(&text, "%s\n", p->environment[i]);
    for (size_t i = 0; tools[i]; i++)
        add_program(p, variable(p, tools[i]), &text);
    mos_sha256(text.data, text.length, hash);
    mos_sha256_hex(hash, key);
}

/* The files of the tree that a command names. */
static void stamp_of(struct mos_kc_probes *p, const char *command, char hex[65]) {
    struct mos_buf text = {.arena = p->ctx->arena};
    uint8_t hash[MOS_SHA256_SIZE];
    const char *tree = variable(p, "srctree");
    size_t n = strlen(tree);
    mos_buf_text(&text, "files\n");
    for (const char *at = n ? strstr(command, tree) : NULL; at; at = strstr(at + n, tree))
        add_stamp(p, mos_strndup(p->ctx->arena, at, strcspn(at, " \t'\";|&()<>")), &text);
    mos_sha256(text.data, text.length, hash);
    mos_sha256_hex(hash, hex);
}

/* STAMP LENGTH-OF-COMMAND COMMAND LENGTH-OF-RESULT RESULT, and a line's end each. */
const char *mos_kc_probes_text(struct mos_kc_probes *p, size_t *length) {
    struct mos_buf out = {.arena = p->ctx->arena};
    for (size_t i = 0; i < p->results.count; i++) {
        char stamp[65];
        const char *command = p->results.items[i].key, *result = p->results.items[i].value;
        stamp_of(p, command, stamp);
        mos_buf_printf(&out, "%s %zu %s %zu %s\n", stamp, strlen(command), command, strlen(result),
                       result);
    }
    *length = out.length;
    return mos_buf_string(&out);
}

/* A number and the blank behind it; false: none stands there. */
static bool take_number(const char **at, const char *end, size_t *out) {
    const char *p = *at;
    for (*out = 0; p < end && *p >= '0' && *p <= '9' && *out < 1u << 24; p++)
        *out = 10 * *out + (size_t)(*p - '0');
    bool good = p > *at && p < end && *p == ' ' && *out <= (size_t)(end - p - 1);
    *at = p + 1;
    return good;
}

void mos_kc_probes_take(struct mos_kc_probes *p, const char *text, size_t length) {
    for (const char *at = text, *end = text + length; end - at > 66;) {
        const char *stamp = at;
        size_t command_length, result_length;
        at += 65;
        if (!take_number(&at, end, &command_length))
            return;
        const char *command = mos_strndup(p->ctx->arena, at, command_length);
        at += command_length + 1;
        if (at >= end || !take_number(&at, end, &result_length))
            return;
        const char *result = mos_strndup(p->ctx->arena, at, result_length);
        at += result_length + 1;
        char now[65];
        stamp_of(p, command, now);
        if (memcmp(now, stamp, 64) == 0)
            mos_map_set_const(&p->results, command, result);
    }
}
