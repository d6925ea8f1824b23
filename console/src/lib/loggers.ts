import { quoted } from './asked';

/** One logger, or the common prefix of several: `sailings` above `sailings.fares` and `sailings.boardings`. */
export interface Logger {
	/** Its whole name. */
	name: string;
	/** Its name below its parent. */
	short: string;
	/** Records of itself, and of all below it. */
	records: number;
	/** Of these, how many are a warning or worse. */
	loud: number;
	/** Records of itself alone. */
	own: number;
	children: Logger[];
}

/** Make a tree of counts by logger and severity, the most records first. A node with a single child is merged with it. */
export function loggersOf(groups: readonly { keys: readonly unknown[]; records: number }[]): Logger[] {
	const root: Logger = { name: '', short: '', records: 0, loud: 0, own: 0, children: [] };
	for (const { keys, records } of groups) {
		const [name, severity] = keys;
		const loud = severity === 'WARN' || severity === 'ERROR' || severity === 'FATAL' ? records : 0;
		let at = root;
		const parts = typeof name === 'string' && name ? name.split('.') : [''];
		for (const [i, short] of parts.entries()) {
			const whole = parts.slice(0, i + 1).join('.');
			let next = at.children.find((child) => child.short === short);
			if (!next) at.children.push((next = { name: whole, short, records: 0, loud: 0, own: 0, children: [] }));
			next.records += records;
			next.loud += loud;
			at = next;
		}
		at.own += records;
	}
	return settled(root).children;
}

function settled(logger: Logger): Logger {
	const children = logger.children.map(settled).sort((a, b) => b.records - a.records || a.name.localeCompare(b.name));
	const only = children.length === 1 ? children[0] : undefined;
	if (only && logger.name && logger.own === 0) return { ...only, short: `${logger.short}.${only.short}` };
	return { ...logger, children };
}

/** The question for a logger and all below it. */
export function questionOf(logger: Logger): string {
	if (!logger.name) return 'logger=""';
	const itself = `logger=${quoted(logger.name)}`;
	const below = `logger=${quoted(`${logger.name}.`)}*`;
	if (!logger.children.length) return itself;
	return logger.own ? `(${itself} or ${below})` : below;
}
