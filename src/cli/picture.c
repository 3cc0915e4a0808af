/* show layout --picture: the layout of each medium, drawn to scale.  The drawing library is loaded
 * only here. */
#include "cli/cli.h"

#include <cairo-svg.h>
#include <cairo.h>
#include <dlfcn.h>
#include <stdlib.h>
#include <string.h>

#define FUNCTIONS(X)                                                                               \
    X(cairo_svg_surface_create)                                                                    \
    X(cairo_image_surface_create)                                                                  \
    X(cairo_surface_write_to_png)                                                                  \
    X(cairo_surface_status)                                                                        \
    X(cairo_surface_finish)                                                                        \
    X(cairo_surface_destroy)                                                                       \
    X(cairo_status_to_string)                                                                      \
    X(cairo_create)                                                                                \
    X(cairo_destroy)                                                                               \
    X(cairo_set_source_rgb)                                                                        \
    X(cairo_rectangle)                                                                             \
    X(cairo_fill)                                                                                  \
    X(cairo_stroke)                                                                                \
    X(cairo_set_line_width)                                                                        \
    X(cairo_move_to)                                                                               \
    X(cairo_line_to)                                                                               \
    X(cairo_select_font_face)                                                                      \
    X(cairo_set_font_size)                                                                         \
    X(cairo_show_text)

#define DECLARE(f) __typeof__(f) *f;
static struct { FUNCTIONS(DECLARE) } c;

enum {
    WIDTH = 1200,
    MARGIN = 24,
    TITLE = 40,
    BAR = 56,
    ROW = 22,
    GAP = 30,
    COLOURS = 8,
    NAMED = 64
};

static const double colours[COLOURS][3] = {
    {0.20, 0.45, 0.70}, {0.88, 0.56, 0.14}, {0.30, 0.60, 0.36}, {0.70, 0.30, 0.34},
    {0.48, 0.40, 0.66}, {0.55, 0.44, 0.32}, {0.24, 0.60, 0.62}, {0.75, 0.62, 0.20}};

static bool load(const struct cli *cli) {
    void *library = dlopen("libcairo.so.2", RTLD_NOW);
    bool good = library != NULL;
#define FIND(f) good = good && (*(void **)&c.f = dlsym(library, #f)) != NULL;
    FUNCTIONS(FIND)
    if (!good)
        fprintf(to_err,
                "%smosaicum:%s pictures need the library libcairo.so.2 (package libcairo2)\n",
                style(cli, STYLE_ERROR), style(cli, STYLE_END));
    return good;
}

static const struct mosaicum_cell *cell_of(const struct mosaicum_table *t, size_t row,
                                           const char *key) {
    for (size_t i = 0; i < t->column_count; i++)
        if (strcmp(t->columns[i].key, key) == 0)
            return &t->cells[row * t->column_count + i];
    return NULL;
}

static uint64_t number_of(const struct mosaicum_table *t, size_t row, const char *key) {
    const struct mosaicum_cell *x = cell_of(t, row, key);
    return x ? x->number : 0;
}

static bool is_region(const struct mosaicum_table *t, size_t row) {
    return cell_of(t, row, "region")->text[0] != 0;
}

static bool is_free(const struct mosaicum_table *t, size_t row) {
    return strcmp(cell_of(t, row, "holds")->text, "(unused)") == 0;
}

static uint64_t size_of(const struct mosaicum_table *t) {
    uint64_t size = 1;
    for (size_t r = 0; r < t->row_count; r++)
        size = number_of(t, r, "end") > size ? number_of(t, r, "end") : size;
    return size;
}

/* The early part that is worth a bar of its own: up to the end of the last region that would be
 * too narrow to see; 0: none is. */
static uint64_t magnified(const struct mosaicum_table *t) {
    uint64_t size = size_of(t), end = 0;
    for (size_t r = 0; r < t->row_count; r++) {
        uint64_t to = number_of(t, r, "end");
        if (is_region(t, r) && to - number_of(t, r, "start") < size / 100 && to < size / 8)
            end = to > end ? to : end;
    }
    uint64_t part = 1 << 20;
    while (end && part < end)
        part *= 2;
    return end ? part : 0;
}

static void text(cairo_t *g, double x, double y, double size, const char *s) {
    c.cairo_set_font_size(g, size);
    c.cairo_move_to(g, x, y);
    c.cairo_show_text(g, s);
}

static void ink(cairo_t *g, const struct mosaicum_table *t, size_t row, size_t index) {
    const double *p = colours[index % COLOURS];
    if (is_region(t, row))
        c.cairo_set_source_rgb(g, p[0], p[1], p[2]);
    else if (is_free(t, row))
        c.cairo_set_source_rgb(g, 0.93, 0.93, 0.93);
    else
        c.cairo_set_source_rgb(g, 0.35, 0.35, 0.35);
}

/* The first `size` bytes of a medium as a bar. */
static void bar(cairo_t *g, const struct mosaicum_table *t, double y, double height,
                uint64_t size) {
    double scale = (double)(WIDTH - 2 * MARGIN) / (double)size;
    size_t index = 0;
    for (size_t r = 0; r < t->row_count; r++) {
        uint64_t from = number_of(t, r, "start"), to = number_of(t, r, "end");
        size_t own = index;
        index += is_region(t, r);
        if (from >= size)
            continue;
        double x = MARGIN + (double)from * scale,
               w = (double)((to < size ? to : size) - from) * scale;
        ink(g, t, r, own);
        w = w < 2 && !is_free(t, r) ? 2 : w;
        x = x + w > WIDTH - MARGIN ? WIDTH - MARGIN - w : x;
        c.cairo_rectangle(g, x, y, w, height);
        c.cairo_fill(g);
        if (is_region(t, r) && w > 60) {
            c.cairo_set_source_rgb(g, 1, 1, 1);
            text(g, x + 8, y + height / 2 + 5, 14, cell_of(t, r, "region")->text);
        }
    }
    c.cairo_set_source_rgb(g, 0, 0, 0);
    c.cairo_set_line_width(g, 1);
    c.cairo_rectangle(g, MARGIN + 0.5, y + 0.5, WIDTH - 2 * MARGIN - 1, height - 1);
    c.cairo_stroke(g);
}

static double legend(cairo_t *g, const struct mosaicum_table *t, double y) {
    static const struct {
        const char *key;
        double x;
    } columns[] = {{"region", 30},   {"number", 190}, {"start", 240}, {"end", 360},   {"size", 480},
                   {"sectors", 600}, {"holds", 770},  {"free", 1010}, {"owner", 1100}};
    size_t index = 0;
    c.cairo_set_source_rgb(g, 0.4, 0.4, 0.4);
    for (size_t k = 0; k < sizeof columns / sizeof *columns; k++)
        text(g, MARGIN + columns[k].x, y, 13,
             strcmp(columns[k].key, "number") == 0 ? "no." : columns[k].key);
    for (size_t r = 0; r < t->row_count; r++) {
        y += ROW;
        ink(g, t, r, index);
        index += is_region(t, r);
        c.cairo_rectangle(g, MARGIN, y - 12, 16, 14);
        c.cairo_fill(g);
        if (is_region(t, r))
            c.cairo_set_source_rgb(g, 0, 0, 0);
        else
            c.cairo_set_source_rgb(g, 0.5, 0.5, 0.5);
        for (size_t k = 0; k < sizeof columns / sizeof *columns; k++)
            text(g, MARGIN + columns[k].x, y, 13, cell_of(t, r, columns[k].key)->text);
    }
    return y;
}

static double medium_height(const struct mosaicum_table *t) {
    return TITLE + BAR + (magnified(t) ? GAP + BAR / 2 : 0) + GAP +
           (double)(t->row_count + 1) * ROW + GAP;
}

static void draw(cairo_t *g, const struct mosaicum_table *t, double y) {
    char note[NAMED];
    uint64_t part = magnified(t);
    c.cairo_select_font_face(g, "sans-serif", CAIRO_FONT_SLANT_NORMAL, CAIRO_FONT_WEIGHT_BOLD);
    c.cairo_set_source_rgb(g, 0, 0, 0);
    text(g, MARGIN, y + 26, 18, t->title);
    c.cairo_select_font_face(g, "sans-serif", CAIRO_FONT_SLANT_NORMAL, CAIRO_FONT_WEIGHT_NORMAL);
    y += TITLE;
    bar(g, t, y, BAR, size_of(t));
    y += BAR;
    if (part) {
        double x = MARGIN + (double)(WIDTH - 2 * MARGIN) * (double)part / (double)size_of(t);
        c.cairo_set_source_rgb(g, 0.6, 0.6, 0.6);
        c.cairo_set_line_width(g, 1);
        c.cairo_move_to(g, x, y);
        c.cairo_line_to(g, WIDTH - MARGIN, y + GAP);
        c.cairo_stroke(g);
        snprintf(note, sizeof note, "the first %llu MiB", (unsigned long long)(part >> 20));
        text(g, MARGIN, y + GAP - 6, 12, note);
        bar(g, t, y + GAP, BAR / 2.0, part);
        y += GAP + BAR / 2.0;
    }
    legend(g, t, y + GAP);
}

static int failed(const struct cli *cli, const char *path, cairo_status_t status) {
    fprintf(to_err, "%smosaicum:%s cannot write %s: %s\n", style(cli, STYLE_ERROR),
            style(cli, STYLE_END), path, c.cairo_status_to_string(status));
    return MOSAICUM_SYSTEM;
}

static bool ends_in(const char *path, const char *end) {
    size_t n = strlen(path), k = strlen(end);
    return n > k && strcmp(path + n - k, end) == 0;
}

/* A white sheet for a file; NULL after a complaint. */
static cairo_surface_t *new_sheet(const struct cli *cli, const char *path, double height,
                                  cairo_t **g) {
    bool png = ends_in(path, ".png");
    cairo_surface_t *s = png ? c.cairo_image_surface_create(CAIRO_FORMAT_RGB24, WIDTH, (int)height)
                             : c.cairo_svg_surface_create(path, WIDTH, height);
    if (c.cairo_surface_status(s) != CAIRO_STATUS_SUCCESS) {
        failed(cli, path, c.cairo_surface_status(s));
        c.cairo_surface_destroy(s);
        return NULL;
    }
    *g = c.cairo_create(s);
    c.cairo_set_source_rgb(*g, 1, 1, 1);
    c.cairo_rectangle(*g, 0, 0, WIDTH, height);
    c.cairo_fill(*g);
    return s;
}

static int end_sheet(const struct cli *cli, const char *path, cairo_surface_t *s, cairo_t *g) {
    c.cairo_destroy(g);
    cairo_status_t status =
        ends_in(path, ".png") ? c.cairo_surface_write_to_png(s, path) : CAIRO_STATUS_SUCCESS;
    c.cairo_surface_finish(s);
    if (status == CAIRO_STATUS_SUCCESS)
        status = c.cairo_surface_status(s);
    c.cairo_surface_destroy(s);
    return status == CAIRO_STATUS_SUCCESS ? MOSAICUM_DONE : failed(cli, path, status);
}

/* Is it a file that can be drawn, and is there what draws? */
static int prepare(const struct cli *cli, const char *path) {
    if (!ends_in(path, ".png") && !ends_in(path, ".svg")) {
        fprintf(to_err, "%smosaicum:%s --picture wants a file .svg or .png, not %s\n",
                style(cli, STYLE_ERROR), style(cli, STYLE_END), path);
        return MOSAICUM_USAGE;
    }
    return load(cli) ? MOSAICUM_DONE : MOSAICUM_SYSTEM;
}

int draw_layout(const struct cli *cli, const mosaicum *m, const char *path) {
    double height = MARGIN;
    int status = prepare(cli, path);
    if (status)
        return status;
    for (size_t i = 0; i < mosaicum_table_count(m); i++)
        if (!mosaicum_table_at(m, i)->text && cell_of(mosaicum_table_at(m, i), 0, "map"))
            height += medium_height(mosaicum_table_at(m, i));
    cairo_t *g;
    cairo_surface_t *s = new_sheet(cli, path, height, &g);
    double y = MARGIN;
    for (size_t i = 0; s && i < mosaicum_table_count(m); i++) {
        const struct mosaicum_table *t = mosaicum_table_at(m, i);
        if (t->text || !cell_of(t, 0, "map"))
            continue;
        draw(g, t, y);
        y += medium_height(t);
    }
    return s ? end_sheet(cli, path, s, g) : MOSAICUM_SYSTEM;
}

/* ---- trees ---- */

/* Rows that begin alike are one box: a bus, a controller. */
static size_t group_end(const struct mosaicum_table *t, size_t from) {
    size_t to = from;
    while (to < t->row_count &&
           strcmp(t->cells[to * t->column_count].text, t->cells[from * t->column_count].text) == 0)
        to++;
    return to;
}

static double tree_height(const struct mosaicum_table *t) {
    double height = t->row_count ? TITLE : 0;
    for (size_t r = 0; r < t->row_count; r = group_end(t, r))
        height += (double)(group_end(t, r) - r + 1) * ROW + GAP;
    return height;
}

static void box(cairo_t *g, const struct mosaicum_table *t, size_t from, size_t to, double y,
                size_t index) {
    static const double x[] = {0, 30, 200, 560, 1010};
    const double *p = colours[index % COLOURS];
    double height = (double)(to - from + 1) * ROW + ROW / 2.0;
    c.cairo_set_source_rgb(g, p[0], p[1], p[2]);
    c.cairo_rectangle(g, MARGIN, y, WIDTH - 2 * MARGIN, ROW + 4);
    c.cairo_fill(g);
    c.cairo_set_line_width(g, 1);
    c.cairo_rectangle(g, MARGIN + 0.5, y + 0.5, WIDTH - 2 * MARGIN - 1, height);
    c.cairo_stroke(g);
    c.cairo_set_source_rgb(g, 1, 1, 1);
    text(g, MARGIN + 8, y + 18, 14, t->cells[from * t->column_count].text);
    for (size_t r = from; r < to; r++) {
        bool off = strcmp(t->cells[(r + 1) * t->column_count - 1].text, "off") == 0;
        double shade = off ? 0.55 : 0;
        c.cairo_set_source_rgb(g, shade, shade, shade);
        for (size_t k = 1; k < t->column_count && k < sizeof x / sizeof *x; k++)
            text(g, MARGIN + x[k], y + (double)(r - from + 2) * ROW - 2, 13,
                 t->cells[r * t->column_count + k].text);
    }
}

int draw_tree(const struct cli *cli, const mosaicum *m, const char *path) {
    double height = MARGIN, y = MARGIN;
    int status = prepare(cli, path);
    if (status)
        return status;
    for (size_t i = 0; i < mosaicum_table_count(m); i++)
        height += tree_height(mosaicum_table_at(m, i));
    cairo_t *g;
    cairo_surface_t *s = new_sheet(cli, path, height, &g);
    for (size_t i = 0; s && i < mosaicum_table_count(m); i++) {
        const struct mosaicum_table *t = mosaicum_table_at(m, i);
        size_t index = 0;
        if (!t->row_count)
            continue;
        c.cairo_select_font_face(g, "sans-serif", CAIRO_FONT_SLANT_NORMAL,
                                 CAIRO_FONT_WEIGHT_NORMAL);
        c.cairo_set_source_rgb(g, 0, 0, 0);
        text(g, MARGIN, y + 26, 18, t->title);
        y += TITLE;
        for (size_t r = 0, to; r < t->row_count; r = to) {
            to = group_end(t, r);
            box(g, t, r, to, y, index++);
            y += (double)(to - r + 1) * ROW + GAP;
        }
    }
    return s ? end_sheet(cli, path, s, g) : MOSAICUM_SYSTEM;
}
