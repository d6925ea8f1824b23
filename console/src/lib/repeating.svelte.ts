/** Run something again and again, as long as the calling component lives. The interval, in milliseconds, may change. */
export function repeat(run: () => void, everyMs: () => number) {
	$effect(() => {
		const timer = setInterval(run, everyMs());
		return () => clearInterval(timer);
	});
}
