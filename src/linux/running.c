#include "linux/running.h"

#include <fnmatch.h>
#include <stddef.h>

static const char logs[] = "a log", cache[] = "a cache or temporary file",
                  state[] = "state that programs keep", first[] = "made at the first start",
                  history[] = "history of a shell or editor", desktop[] = "left by a desktop",
                  repair[] = "left by a file system check";

/* A * fits slashes, too. */
static const struct {
    const char *pattern, *why;
} places[] = {
    {"var/log/*", logs},
    {"var/log", logs},
    {"var/cache/*", cache},
    {"var/cache", cache},
    {"var/tmp/*", cache},
    {"var/tmp", cache},
    {"tmp/*", cache},
    {"tmp", cache},
    {"run/*", state},
    {"run", state},
    {"var/run/*", state},
    {"var/lock/*", state},
    {"var/spool/*", state},
    {"var/backups/*", cache},
    {"var/lib/systemd/*", state},
    {"var/lib/private/*", state},
    {"var/lib/dbus/machine-id", first},
    {"var/lib/dhcp/*", state},
    {"var/lib/dhcpcd/*", state},
    {"var/lib/NetworkManager/*", state},
    {"var/lib/bluetooth/*", state},
    {"var/lib/alsa/*", state},
    {"var/lib/chrony/*", state},
    {"var/lib/ntp/*", state},
    {"var/lib/ntpsec/*", state},
    {"var/lib/misc/*", state},
    {"var/lib/urandom/*", state},
    {"var/lib/random-seed", state},
    {"var/lib/seedrng/*", state},
    {"var/lib/logrotate/*", state},
    {"var/lib/nfs/*", state},
    {"etc/machine-id", first},
    {"etc/ssh/ssh_host_*_key", first},
    {"etc/ssh/ssh_host_*_key.pub", first},
    {"etc/*/*_host_key", first},
    {"etc/resolv.conf", state},
    {"etc/adjtime", state},
    {"etc/mtab", state},
    {"etc/fake-hwclock.data", state},
    {"etc/ld.so.cache", cache},
    {"etc/.updated", state},
    {"var/.updated", state},
    {"root/.*_history", history},
    {"home/*/.*_history", history},
    {"root/.lesshst", history},
    {"home/*/.lesshst", history},
    {"root/.viminfo", history},
    {"home/*/.viminfo", history},
    {"root/.cache/*", cache},
    {"root/.cache", cache},
    {"home/*/.cache/*", cache},
    {"home/*/.cache", cache},
    {"lost+found/*", repair},
    {"FSCK[0-9][0-9][0-9][0-9].REC", repair},
    {".Trash-*", desktop},
    {"System Volume Information*", desktop},
    {".fseventsd*", desktop},
    {".Spotlight-V100*", desktop},
    {".DS_Store", desktop},
    {"*/.DS_Store", desktop},
};

const char *mos_made_by_running(const char *path) {
    for (size_t i = 0; i < sizeof places / sizeof *places; i++)
        if (fnmatch(places[i].pattern, path, 0) == 0)
            return places[i].why;
    return NULL;
}
