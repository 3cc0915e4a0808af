#include "ledger/written.h"

#include "base/text.h"

#include <errno.h>
#include <jansson.h>
#include <stdlib.h>
#include <string.h>

enum { MOST_RECORD = 64 << 20, DAY = 24 * 60 * 60 };

static void set(json_t *o, const char *key, const char *text) {
    if (text && *text)
        json_object_set_new(o, key, json_string(text));
}

static char *line_of(const struct mos_written *w) {
    json_t *o = json_object(), *d = json_object();
    json_object_set_new(o, "mosaicum", json_integer(1));
    set(o, "date", w->date);
    set(o, "board", w->board);
    set(o, "medium", w->medium);
    set(o, "image", w->image);
    set(o, "stamp", w->stamp);
    set(o, "hash", w->hash);
    set(o, "unit", w->unit);
    set(d, "path", w->path);
    set(d, "model", w->model);
    set(d, "serial", w->serial);
    set(d, "port", w->port);
    json_object_set_new(d, "size", json_integer((json_int_t)w->size));
    json_object_set_new(o, "device", d);
    set(o, "result", w->result);
    json_object_set_new(o, "proved", json_boolean(w->proved));
    json_object_set_new(o, "bytes", json_integer((json_int_t)w->bytes));
    json_object_set_new(o, "tenths-of-seconds", json_integer((json_int_t)w->tenths));
    char *line = json_dumps(o, JSON_COMPACT);
    json_decref(o);
    return line;
}

const char *mos_written_today(const struct mos_ctx *ctx) {
    int64_t year, month, day;
    mos_date_of_days(ctx->host->today(ctx->host) / DAY, &year, &month, &day);
    return mos_printf(ctx->arena, "%04lld-%02lld-%02lld", (long long)year, (long long)month,
                      (long long)day);
}

bool mos_written_append(struct mos_ctx *ctx, const char *path, const struct mos_written *w) {
    const struct mos_host *h = ctx->host;
    struct mos_file_info info;
    int file;
    char last = '\n', *line = line_of(w);
    size_t got;
    int e = line ? h->open(h, path, MOS_OPEN_MODIFY, &file) : ENOMEM;
    if (e == ENOENT)
        e = h->open(h, path, MOS_OPEN_NEW, &file);
    if (e) {
        free(line);
        return mos_fail(ctx->error, MOS_ERROR_SYSTEM, e, "Cannot write %s", path);
    }
    e = h->file_info(h, file, &info);
    uint64_t at = e ? 0 : info.size;
    if (!e && at)
        e = h->pread(h, file, &last, 1, at - 1, &got);
    if (!e && last != '\n')
        e = h->pwrite(h, file, "\n", 1, at++);
    size_t n = strlen(line);
    line[n] = '\n'; /* in one piece with its end */
    e = e ? e : h->pwrite(h, file, line, n + 1, at);
    e = e ? e : h->sync(h, file);
    h->close(h, file);
    free(line);
    return e ? mos_fail(ctx->error, MOS_ERROR_SYSTEM, e, "Cannot write %s", path) : true;
}

static const char *text_in(struct mos_ctx *ctx, const json_t *o, const char *key) {
    const char *text = json_string_value(json_object_get(o, key));
    return text ? mos_strdup(ctx->arena, text) : NULL;
}

static uint64_t number_in(const json_t *o, const char *key) {
    json_int_t n = json_integer_value(json_object_get(o, key));
    return n > 0 ? (uint64_t)n : 0;
}

static void read_line(struct mos_ctx *ctx, const json_t *o, struct mos_written *w) {
    const json_t *d = json_object_get(o, "device");
    *w = (struct mos_written){.date = text_in(ctx, o, "date"),
                              .board = text_in(ctx, o, "board"),
                              .medium = text_in(ctx, o, "medium"),
                              .image = text_in(ctx, o, "image"),
                              .stamp = text_in(ctx, o, "stamp"),
                              .hash = text_in(ctx, o, "hash"),
                              .unit = text_in(ctx, o, "unit"),
                              .path = text_in(ctx, d, "path"),
                              .model = text_in(ctx, d, "model"),
                              .serial = text_in(ctx, d, "serial"),
                              .port = text_in(ctx, d, "port"),
                              .result = text_in(ctx, o, "result"),
                              .size = number_in(d, "size"),
                              .bytes = number_in(o, "bytes"),
                              .tenths = number_in(o, "tenths-of-seconds"),
                              .proved = json_is_true(json_object_get(o, "proved"))};
}

struct mos_vec mos_written_read(struct mos_ctx *ctx, const char *path, size_t *bad) {
    struct mos_vec out = mos_vec_make(ctx->arena, sizeof(struct mos_written));
    struct mos_error ignored = {0};
    struct mos_ctx quiet = mos_ctx_quiet(ctx, &ignored);
    char *data;
    size_t length;
    *bad = 0;
    if (!mos_exists(&quiet, path))
        return out;
    if (!mos_read_aside(&quiet, path, MOST_RECORD, &data, &length)) {
        *bad = 1;
        return out;
    }
    for (char *line = data, *next; line && *line; line = next) {
        next = strchr(line, '\n');
        size_t n = next ? (size_t)(next - line) : strlen(line);
        json_t *o = json_loadb(line, n, 0, NULL);
        next = next ? next + 1 : NULL;
        if (json_is_object(o))
            read_line(&quiet, o, mos_vec_push(&out));
        else if (n)
            ++*bad;
        json_decref(o);
    }
    return out;
}
