import { cut, type Attributes } from './state';

/** Return a framework's further facts about an error, as attributes; never a component's own data. */
export function ofBoundary(more: unknown, where: unknown): Attributes {
	if (!more || typeof more !== 'object') return typeof where === 'string' ? { 'component.part': cut(where, 200) } : {};
	if (typeof where === 'string') {
		// A component of Vue; its other properties are its data.
		const options = (more as { $options?: { name?: string; __name?: string } }).$options;
		const name = options?.name ?? options?.__name;
		return { ...(name ? { 'component.name': cut(name, 200) } : {}), 'component.part': cut(where, 200) };
	}
	const { componentStack } = more as { componentStack?: string };
	if (typeof componentStack === 'string') {
		const name = /^\s*(?:at )?([\w$.]+)/.exec(componentStack)?.[1];
		return { ...(name ? { 'component.name': name } : {}), 'component.stack': cut(componentStack.trim()) };
	}
	const plain = Object.entries(more).filter(([, value]) => /^(?:string|number|boolean)$/.test(typeof value));
	return Object.fromEntries(plain.slice(0, 30)) as Attributes;
}
