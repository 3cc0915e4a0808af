/* Small texts of a root file system: which of them rules read, and what is kept of them. */
#include "content/content.h"

#include "base/secret.h"

#include <string.h>

enum { LARGEST_TEXT = 64 << 10 };

enum mos_text_kind mos_text_kind(const struct mos_entry *entry) {
    static const struct {
        const char *path;
        enum mos_text_kind kind;
    } rows[] = {
        {"etc/passwd", MOS_TEXT_USERS},
        {"etc/shadow", MOS_TEXT_USERS},
        {"etc/group", MOS_TEXT_USERS},
        {"etc/inittab", MOS_TEXT_PLAIN},
        {"etc/inetd.conf", MOS_TEXT_PLAIN},
        {"etc/ssh/sshd_config", MOS_TEXT_PLAIN},
        {"etc/init.d/S50telnet", MOS_TEXT_PLAIN},
        {"etc/init.d/rcS", MOS_TEXT_PLAIN},
    };
    if (entry->type != MOS_ENTRY_FILE || entry->size > LARGEST_TEXT ||
        strncmp(entry->path, "etc/", 4) != 0)
        return MOS_TEXT_NONE;
    for (size_t i = 0; i < sizeof rows / sizeof *rows; i++)
        if (strcmp(rows[i].path, entry->path) == 0)
            return rows[i].kind;
    return MOS_TEXT_HASH;
}

void mos_text_token(const char *password, size_t length, char *out) {
    uint8_t hash[MOS_SHA256_SIZE] = {0};
    char text[256], hex[65];
    size_t n = length < sizeof text ? length : sizeof text - 1;
    memcpy(text, password, n); /* out may be where the password is */
    text[n] = 0;
    mos_sha256(password, length, hash);
    for (size_t at = 1; at < length; at += 64) {
        mos_sha256_hex(hash, hex);
        memcpy(out + at, hex, length - at < 64 ? length - at : 64);
        mos_sha256(hash, sizeof hash, hash);
    }
    if (length)
        out[0] = mos_is_password_hash(text) ? MOS_TOKEN : MOS_TOKEN + 1;
}

void mos_text_redact(char *text, size_t length) {
    for (size_t at = 0; at < length;) {
        const char *line = text + at, *end = memchr(line, '\n', length - at);
        size_t n = end ? (size_t)(end - line) : length - at;
        const char *colon = memchr(line, ':', n);
        size_t from = colon ? (size_t)(colon + 1 - text) : at + n, to = at + n;
        const char *next = memchr(text + from, ':', to - from);
        to = next ? (size_t)(next - text) : to;
        /* a lock before it stays, and what is no password at all */
        while (from < to && (text[from] == '!' || text[from] == '*'))
            from++;
        if (to - from > 1)
            mos_text_token(text + from, to - from, text + from);
        at += n + (end != NULL);
    }
}
