/** A chart saved as a file: its title above it, its lines' names below. */
export interface Drawn {
	canvas: HTMLCanvasElement;
	title: string;
	lines: { name: string; dash: number[]; colour: string }[];
	ink: string;
	paper: string;
	font: string;
}

const MARGIN = 16;
const LINE = 22;

/** Draw a chart with its texts on a background, and save it as a PNG file. */
export function savePng(drawn: Drawn, fileName: string): void {
	const scale = globalThis.devicePixelRatio || 1;
	const paper = document.createElement('canvas');
	const wide = drawn.canvas.width / scale + 2 * MARGIN;
	const high = drawn.canvas.height / scale + 3 * MARGIN + LINE * (1 + drawn.lines.length);
	paper.width = wide * scale;
	paper.height = high * scale;
	const pen = paper.getContext('2d')!;
	pen.scale(scale, scale);
	pen.fillStyle = drawn.paper;
	pen.fillRect(0, 0, wide, high);
	pen.fillStyle = drawn.ink;
	pen.textBaseline = 'middle';
	pen.font = `600 15px ${drawn.font}`;
	pen.fillText(drawn.title, MARGIN, MARGIN + LINE / 2, wide - 2 * MARGIN);
	pen.drawImage(drawn.canvas, MARGIN, MARGIN + LINE, drawn.canvas.width / scale, drawn.canvas.height / scale);
	pen.font = `13px ${drawn.font}`;
	for (const [i, line] of drawn.lines.entries()) {
		const y = high - MARGIN - LINE * (drawn.lines.length - i - 0.5);
		pen.strokeStyle = line.colour;
		pen.lineWidth = i === 0 ? 2.5 : 1.5;
		pen.setLineDash(line.dash);
		pen.beginPath();
		pen.moveTo(MARGIN, y);
		pen.lineTo(MARGIN + 36, y);
		pen.stroke();
		pen.fillText(line.name, MARGIN + 46, y, wide - 2 * MARGIN - 46);
	}
	paper.toBlob((blob) => {
		if (!blob) return;
		const link = document.createElement('a');
		link.href = URL.createObjectURL(blob);
		link.download = fileName;
		link.click();
		setTimeout(() => URL.revokeObjectURL(link.href), 60_000);
	}, 'image/png');
}
