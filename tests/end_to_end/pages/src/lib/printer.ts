interface Paper {
  tray?: { sheets: number };
  lines: number;
}

function sheets(paper: Paper): number {
  return Math.ceil(paper.lines / paper.tray!.sheets);
}

export async function print(paper: Paper): Promise<string> {
  const count = sheets(paper);
  return `${count} sheets`;
}
