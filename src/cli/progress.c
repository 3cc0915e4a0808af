#include "cli/cli.h"
#include "platform/platform.h"

static struct {
    int64_t start, last;
    uint64_t done;
    bool drawn;
} bar; /* one line on the terminal */

void progress_clear(void) {
    if (bar.drawn)
        out_progress("");
    bar.drawn = false;
    bar.start = 0;
}

void progress(void *self, const char *what, uint64_t done, uint64_t total) {
    const struct mos_host *h = mos_platform_host();
    int64_t now = h->now_ns(h);
    (void)self;
    if (!bar.start || done < bar.done) /* another part of the work begins */
        bar.start = now;
    bar.done = done;
    /* only work that takes longer than half a second is worth a line */
    if (now - bar.start < 500000000 || now - bar.last < 100000000)
        return;
    double seconds = (double)(now - bar.start) / 1e9, mib = (double)done / 1048576;
    double left = done ? seconds * (double)(total - done) / (double)done : 0;
    char line[256];
    if (!total) /* nobody knows how much there is */
        snprintf(line, sizeof line, "%s  %.0f MiB  %.0f MiB/s", what, mib, mib / seconds);
    else
        snprintf(line, sizeof line, "%s %3d %%  %.0f of %.0f MiB  %.0f MiB/s  %.0f s left", what,
                 (int)(done * 100 / total), mib, (double)total / 1048576, mib / seconds, left);
    out_progress(line);
    bar.last = now;
    bar.drawn = true;
    if (total && done >= total)
        progress_clear();
}
