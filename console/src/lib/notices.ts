import { createToaster } from '@skeletonlabs/skeleton-svelte';

/** What was done, said at the edge of the page for a while. What went wrong stays where it was asked for, until it is put right. */
export const notices = createToaster({ placement: 'bottom-end', duration: 8000, max: 3 });
