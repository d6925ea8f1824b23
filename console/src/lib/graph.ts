import type { Said } from './api';

export type Calls = Said<'CallsAnswer'>;
export type CallLine = Calls['lines'][number];

/** Kinds of called sides, as a shape and a word. */
export const kindShapes: Record<Node['kind'], string> = { app: '■', http: '○', database: '▤', queue: '⇉' };
export const kindNames: Record<Node['kind'], string> = { app: 'app', http: 'host', database: 'database', queue: 'queue' };

/** An app, or another host, database or queue. */
export interface Node {
	id: string;
	name: string;
	kind: 'app' | CallLine['kind'];
	runs?: number;
	x: number;
	y: number;
	width: number;
	height: number;
}

/** A caller and a called side, with all calls between them. */
export interface Edge {
	from: string;
	to: string;
	lines: CallLine[];
	calls: number;
	failed: number;
	points: { x: number; y: number }[];
	/** The place of its label. */
	at: { x: number; y: number };
}

export interface Graph {
	nodes: Node[];
	edges: Edge[];
	width: number;
	height: number;
}

const NODE_HEIGHT = 40;
const LETTER = 7.6;
const LABEL = { width: 96, height: 30 };

/** The end of a line: an app, or a side outside of them. */
export const endOf = (line: CallLine) => (line.to_app ? `app ${line.to_app}` : `${line.kind} ${line.target}`);

/** Lay out apps and called sides from left to right, with dagre. */
export async function graphOf(found: Calls): Promise<Graph> {
	const { Graph: Drawing, layout } = await import('@dagrejs/dagre');
	const drawing = new Drawing();
	drawing.setGraph({ rankdir: 'LR', nodesep: 18, ranksep: 40, edgesep: 12, marginx: 8, marginy: 8 });
	const nodes = new Map<string, Node>();
	const add = (id: string, name: string, kind: Node['kind'], runs?: number) => {
		if (nodes.has(id)) return;
		const width = Math.max(90, Math.min(240, name.length * LETTER + 34));
		nodes.set(id, { id, name, kind, runs, x: 0, y: 0, width, height: NODE_HEIGHT });
	};
	for (const app of found.apps) add(`app ${app.app}`, app.app, 'app', app.runs);
	const edges = new Map<string, Edge>();
	for (const line of found.lines) {
		const from = `app ${line.app}`;
		const to = endOf(line);
		add(from, line.app, 'app');
		if (line.to_app) add(to, line.to_app, 'app');
		else add(to, line.target === '…' ? 'others' : line.target, line.kind);
		const key = `${from}\n${to}`;
		const edge = edges.get(key) ?? { from, to, lines: [], calls: 0, failed: 0, points: [], at: { x: 0, y: 0 } };
		edge.lines.push(line);
		edge.calls += line.calls;
		edge.failed += line.failed;
		edges.set(key, edge);
	}
	for (const node of nodes.values()) drawing.setNode(node.id, { width: node.width, height: node.height });
	for (const edge of edges.values()) drawing.setEdge(edge.from, edge.to, { ...LABEL, labelpos: 'c' });
	layout(drawing);
	for (const node of nodes.values()) {
		const { x, y } = drawing.node(node.id) as { x: number; y: number };
		node.x = x;
		node.y = y;
	}
	for (const edge of edges.values()) {
		const { points, x, y } = drawing.edge(edge.from, edge.to) as { points: Edge['points']; x: number; y: number };
		edge.points = points;
		edge.at = { x, y };
	}
	const { width = 0, height = 0 } = drawing.graph() as { width?: number; height?: number };
	return { nodes: [...nodes.values()], edges: [...edges.values()], width, height };
}

/** A line through points, its bends rounded. */
export function pathOf(points: Edge['points']): string {
	if (points.length < 3) return points.map((p, i) => `${i ? 'L' : 'M'}${p.x} ${p.y}`).join('');
	let path = `M${points[0]!.x} ${points[0]!.y}`;
	for (let i = 1; i < points.length - 1; i++) {
		const here = points[i]!;
		const next = points[i + 1]!;
		const end = i === points.length - 2 ? next : { x: (here.x + next.x) / 2, y: (here.y + next.y) / 2 };
		path += `Q${here.x} ${here.y} ${end.x} ${end.y}`;
	}
	return path;
}
