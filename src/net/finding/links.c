/* Networks that this machine is on, and sockets that stay on them. */
#include <arpa/inet.h>
#include <net/if.h>
#include <string.h>
#include <sys/ioctl.h>
#include <sys/socket.h>
#include <unistd.h>

#include "parts.h"

static struct in_addr address_of(const struct sockaddr *a)
{
    struct sockaddr_in in;
    memcpy(&in, a, sizeof in);
    return in.sin_addr;
}

/* Point-to-point lines have no neighbours that could be cameras. */
static bool is_fit(int fd, struct ifreq *r)
{
    const short wanted = IFF_UP | IFF_MULTICAST;
    if (ioctl(fd, SIOCGIFFLAGS, r) != 0)
        return false;
    return (r->ifr_flags & wanted) == wanted &&
           !(r->ifr_flags & (IFF_LOOPBACK | IFF_POINTOPOINT));
}

/* The older interface: it needs no netlink, which a confined service may not use. */
tw_status find_links(find_link out[FIND_LINKS], size_t *count, tw_error *err)
{
    struct ifreq all[64];
    struct ifconf list = {.ifc_len = (int)sizeof all, .ifc_req = all};
    const int fd = socket(AF_INET, SOCK_DGRAM | SOCK_CLOEXEC, 0);
    *count = 0;
    if (fd >= 0 && ioctl(fd, SIOCGIFCONF, &list) == 0)
        for (size_t i = 0; i < (size_t)list.ifc_len / sizeof *all; i++) {
            const struct in_addr own = address_of(&all[i].ifr_addr);
            if (*count < FIND_LINKS && is_fit(fd, &all[i]) &&
                ioctl(fd, SIOCGIFNETMASK, &all[i]) == 0)
                out[(*count)++] = (find_link){own, address_of(&all[i].ifr_netmask)};
        }
    if (fd >= 0)
        (void)close(fd);
    return *count > 0 ? TW_OK
                      : tw_fail(err, TW_ENOENT,
                                "this machine is on no network that cameras could be on: "
                                "look at its cable, or at its wireless network");
}

bool find_is_on(const find_link *link, struct in_addr host)
{
    const uint32_t mask = link->mask.s_addr;
    return mask != 0 && (host.s_addr & mask) == (link->own.s_addr & mask) &&
           (host.s_addr & ~mask) != 0 && (host.s_addr | mask) != UINT32_MAX;
}

int find_socket(const find_link *link, int ttl)
{
    const struct sockaddr_in at = {.sin_family = AF_INET, .sin_addr = link->own};
    const int one = 1, room = 1 << 20; /* all answer at once; the kernel may give less */
    const int fd = socket(AF_INET, SOCK_DGRAM | SOCK_CLOEXEC | SOCK_NONBLOCK, 0);
    if (fd >= 0 && bind(fd, (const struct sockaddr *)&at, sizeof at) == 0 &&
        setsockopt(fd, IPPROTO_IP, IP_MULTICAST_IF, &link->own, sizeof link->own) == 0 &&
        setsockopt(fd, IPPROTO_IP, IP_MULTICAST_TTL, &ttl, sizeof ttl) == 0 &&
        setsockopt(fd, SOL_SOCKET, SO_DONTROUTE, &one, sizeof one) == 0 &&
        setsockopt(fd, SOL_SOCKET, SO_RCVBUF, &room, sizeof room) == 0)
        return fd;
    if (fd >= 0)
        (void)close(fd);
    return -1;
}

bool find_send(int fd, const char *group, uint16_t port, const void *data, size_t bytes)
{
    struct sockaddr_in to = {.sin_family = AF_INET, .sin_port = htons(port)};
    return inet_pton(AF_INET, group, &to.sin_addr) == 1 &&
           sendto(fd, data, bytes, 0, (const struct sockaddr *)&to, sizeof to) ==
               (ssize_t)bytes;
}
