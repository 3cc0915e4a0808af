/* The volumes that a text names for the kernel, or for the programs after it. */
#include "rehearse/root.h"

#include "linux/devices.h"

#include <ctype.h>
#include <stdlib.h>
#include <string.h>

static bool same_id(const char *a, const char *b) {
    for (; *a && tolower((unsigned char)*a) == tolower((unsigned char)*b); a++, b++)
        ;
    return !*a && !*b;
}

static struct sim_volume *by_partition(struct sim *s,
                                       bool (*fits)(const struct sim_disk *,
                                                    const struct mos_partition *, const char *),
                                       const char *wanted) {
    for (size_t i = 0; i < s->rig->media_count; i++) {
        struct sim_disk *d = sim_disk_of(s, &s->rig->media[i]);
        for (size_t k = 0; d->driver && k < d->table.partitions.count; k++) {
            const struct mos_partition *p = mos_vec_at(&d->table.partitions, k);
            if (fits(d, p, wanted))
                return sim_volume(s, d, p->number);
        }
    }
    return NULL;
}

static bool has_id(const struct sim_disk *d, const struct mos_partition *p, const char *wanted) {
    char id[40];
    d->driver->partition_id(d->table.id, p->number, p->id, id);
    return same_id(id, wanted);
}

static bool has_name(const struct sim_disk *d, const struct mos_partition *p, const char *wanted) {
    (void)d;
    return strcmp(p->name, wanted) == 0;
}

/* /dev/mmcblk0p2, /dev/sda2 */
static struct sim_volume *by_device(struct sim *s, const char *name, const char **why) {
    bool known = false;
    for (size_t i = 0; i < s->rig->media_count; i++) {
        const struct mos_rig_medium *m = &s->rig->media[i];
        unsigned number;
        known |= m->kernel != NULL;
        if (!m->kernel || !mos_device_is_of(name, m->kernel, &number))
            continue;
        struct sim_volume *v = sim_volume(s, sim_disk_of(s, m), number);
        if (!number || v->is_there)
            return v;
        *why = mos_printf(s->arena, "%s has no partition %u", m->name, number);
        return NULL;
    }
    *why = known ? "no medium has that name" : NULL;
    return NULL;
}

static struct sim_volume *by_content(struct sim *s, const char *wanted, bool label) {
    for (size_t i = 0; i < s->rig->media_count; i++) {
        struct sim_disk *d = sim_disk_of(s, &s->rig->media[i]);
        for (size_t k = 0; k < d->table.partitions.count || (!d->driver && !k); k++) {
            const struct mos_partition *p = d->driver ? mos_vec_at(&d->table.partitions, k) : NULL;
            struct sim_volume *v = sim_volume(s, d, p ? p->number : 0);
            const char *has = label ? v->info.label : v->info.id;
            if (v->readable && has && same_id(has, wanted))
                return v;
        }
    }
    return NULL;
}

struct sim_volume *sim_named_volume(struct sim *s, const char *name, bool by_user,
                                    const char **why) {
    struct sim_volume *v;
    *why = "no partition has that identifier";
    if (strncmp(name, "PARTUUID=", 9) == 0)
        return by_partition(s, has_id, name + 9);
    *why = "no partition has that name";
    if (strncmp(name, "PARTLABEL=", 10) == 0)
        return by_partition(s, has_name, name + 10);
    if (strncmp(name, "UUID=", 5) == 0 || strncmp(name, "LABEL=", 6) == 0) {
        *why = "the kernel by itself does not look into file systems: only a ramdisk can";
        if (!by_user)
            return NULL;
        *why = "no file system has that";
        return by_content(s, strchr(name, '=') + 1, *name == 'L');
    }
    if (strncmp(name, "/dev/disk/by-partuuid/", 22) == 0 && by_user)
        return by_partition(s, has_id, name + 22);
    if (strncmp(name, "/dev/disk/by-label/", 19) == 0 && by_user)
        return by_content(s, name + 19, true);
    *why = NULL;
    if (strncmp(name, "/dev/", 5) != 0)
        return NULL;
    v = by_device(s, name + 5, why);
    return v;
}
