#include "content/package.h"

#include <string.h>

#define AR_MAGIC "!<arch>\n"
enum { AR_HEAD = 60, AR_SIZE_AT = 48, AR_SIZE_DIGITS = 10, AR_END_AT = 58 };

bool mos_is_package(const uint8_t *bytes, size_t length) {
    return length >= sizeof AR_MAGIC - 1 && memcmp(bytes, AR_MAGIC, sizeof AR_MAGIC - 1) == 0;
}

/* Fewer than `room` bytes only at the end. */
static int take(struct mos_package *p, void *to, size_t room, size_t *got) {
    int e = 0;
    *got = 0;
    while (*got < room && !e) {
        size_t n = p->held - p->at < room - *got ? p->held - p->at : room - *got;
        if (n) {
            memcpy((uint8_t *)to + *got, p->bytes + p->at, n);
            p->at += n;
        } else {
            e = p->outer.read(p->outer.self, (uint8_t *)to + *got, room - *got, &n);
            if (!n)
                break;
        }
        *got += n;
    }
    return e;
}

static int skip(struct mos_package *p, uint64_t length) {
    uint8_t block[4096];
    size_t got = 1;
    int e = 0;
    while (length && got && !e) {
        e = take(p, block, length < sizeof block ? (size_t)length : sizeof block, &got);
        length -= got;
    }
    return e;
}

static bool size_of(const uint8_t *head, uint64_t *size) {
    *size = 0;
    size_t i = 0;
    while (i < AR_SIZE_DIGITS && head[AR_SIZE_AT + i] >= '0' && head[AR_SIZE_AT + i] <= '9')
        *size = *size * 10 + (head[AR_SIZE_AT + i++] - '0');
    return i && memcmp(head + AR_END_AT, "`\n", 2) == 0;
}

static bool is_named(const uint8_t *head, const char *name) {
    return memcmp(head, name, strlen(name)) == 0;
}

int mos_package_open(struct mos_package *p, const char **why) {
    uint8_t head[AR_HEAD];
    *why = NULL;
    p->at = sizeof AR_MAGIC - 1;
    for (bool first = true;; first = false) {
        size_t got;
        uint64_t size;
        int e = take(p, head, sizeof head, &got);
        if (e)
            return e;
        if (got < sizeof head || !size_of(head, &size)) {
            *why = got ? "it is cut off" : "it is a package without data";
            return 0;
        }
        if (first && !is_named(head, "debian-binary")) {
            *why = "it is an ar archive, but no package";
            return 0;
        }
        if (is_named(head, "data.tar")) {
            p->left = size;
            return 0;
        }
        e = skip(p, size + (size & 1)); /* members start at even offsets */
        if (e)
            return e;
    }
}

int mos_package_read(void *self, void *to, size_t room, size_t *got) {
    struct mos_package *p = self;
    size_t wanted = room < p->left ? room : (size_t)p->left;
    int e = take(p, to, wanted, got);
    p->cut |= !e && *got < wanted;
    p->left -= *got;
    return e;
}
