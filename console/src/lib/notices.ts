import { createToaster } from '@skeletonlabs/skeleton-svelte';

/** Messages about done actions, shown at the edge of the page for a while. Errors stay at their form until they are corrected. */
export const notices = createToaster({ placement: 'bottom-end', duration: 8000, max: 3 });
