/* What all parts of the page ask of it. */
#include <stdio.h>
#include <string.h>

#include "page_state.h"
#include "../core/naming.h"
#include "tawny/settings.h"

bool twi_page_is_tls(const twi_page *p)
{
    return p->certificate != NULL;
}

bool twi_page_has_camera(twi_page *p, const char *name)
{
    const char *known = NULL;
    bool found = false;
    (void)pthread_mutex_lock(&p->station_lock);
    for (size_t i = 0; !found && (known = tw_settings_camera_name(p->settings, i)); i++)
        found = strcmp(known, name) == 0;
    (void)pthread_mutex_unlock(&p->station_lock);
    return found;
}

tw_settings *twi_page_settings(twi_page *p)
{
    (void)pthread_mutex_lock(&p->station_lock);
    tw_settings *copy = tw_settings_copy(p->settings);
    (void)pthread_mutex_unlock(&p->station_lock);
    return copy;
}

int64_t twi_page_now(const twi_page *p)
{
    return p->host.clock.ops->now_us(p->host.clock.ctx);
}

int64_t twi_page_wall(const twi_page *p)
{
    return p->host.clock.ops->wall_us(p->host.clock.ctx);
}

tw_catalogue *twi_page_catalogue_own(const twi_page *p)
{
    char path[PATH_BYTES];
    tw_catalogue *own = NULL;
    (void)snprintf(path, sizeof path, "%s/" TWI_CATALOGUE_FILE, p->store);
    (void)tw_catalogue_open(path, false, &own, NULL);
    return own;
}

tw_catalogue *twi_page_catalogue(twi_page *p)
{
    if (!p->catalogue)
        p->catalogue = twi_page_catalogue_own(p);
    return p->catalogue;
}
