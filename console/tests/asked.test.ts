import { beforeEach, describe, expect, it } from 'vitest';
import { completed, keepAsked, lately, narrowed, term, writing } from '../src/lib/asked';

describe('a term', () => {
	it('is written as it is read, quoted only where it must be', () => {
		expect(term('user.id', '=', 'p-102')).toBe('user.id=p-102');
		expect(term('message', '=', 'no fare for 3 cars')).toBe('message="no fare for 3 cars"');
		expect(term('odd name', '!=', 'say "so" \\ or')).toBe('"odd name"!="say \\"so\\" \\\\ or"');
		expect(term('not', '=', '=1')).toBe('"not"="=1"');
		expect(term('path', '=', 'a*')).toBe('path="a*"');
		expect(term('gone', '=', null)).toBe('gone=""');
		expect(term('list', '=', [1, 'a'])).toBe('list="[1,\\"a\\"]"');
		expect(term('status', '=', 503)).toBe('status=503');
		expect(term('handled', '=', true)).toBe('handled=true');
	});

	it('is added once, and holds with all of what was asked before', () => {
		expect(narrowed('', 'app', '=', 'sailings')).toBe('app=sailings');
		expect(narrowed('severity>=WARN ', 'app', '!=', 'sailings')).toBe('severity>=WARN app!=sailings');
		expect(narrowed('app=sailings', 'app', '=', 'sailings')).toBe('app=sailings');
		expect(narrowed('a=1 or b=2', 'app', '=', 'x')).toBe('(a=1 or b=2) app=x');
		expect(narrowed('(a=1 or b=2)', 'app', '=', 'x')).toBe('(a=1 or b=2) app=x');
		expect(narrowed('"or" word', 'app', '=', 'x')).toBe('"or" word app=x');
	});
});

describe('what is being written', () => {
	it('is a name, a value of a field, or nothing', () => {
		expect(writing('sev', 3)).toEqual({ begins: 'sev', from: 0, to: 3 });
		expect(writing('a=1 user.', 9)).toEqual({ begins: 'user.', from: 4, to: 9 });
		expect(writing('(user.id!=p-1', 13)).toEqual({ field: 'user.id', begins: 'p-1', from: 10, to: 13 });
		expect(writing('severity>=', 10)).toEqual({ field: 'severity', begins: '', from: 10, to: 10 });
		expect(writing('a=1 årsk', 8)).toEqual({ begins: 'årsk', from: 4, to: 8 });
		expect(writing('årskort=5', 9)).toEqual({ field: 'årskort', begins: '5', from: 8, to: 9 });
		expect(writing('message="no fa', 14)).toBeUndefined();
		expect(writing('', 0)).toBeUndefined();
		expect(writing('word ', 5)).toBeUndefined();
	});

	it('gives way to what was chosen, with what comes next', () => {
		expect(completed('sev', { begins: 'sev', from: 0, to: 3 }, 'severity')).toEqual({ text: 'severity=', caret: 9 });
		const at = { field: 'user.id', begins: 'p', from: 8, to: 9 };
		expect(completed('user.id=p b', at, 'p-102')).toEqual({ text: 'user.id=p-102 b', caret: 13 });
		expect(completed('user.id=p', at, 'two words')).toEqual({ text: 'user.id="two words" ', caret: 20 });
	});
});

describe('what was asked lately', () => {
	beforeEach(() => localStorage.clear());

	it('is kept, the latest first, each once, and few', () => {
		for (let i = 0; i < 20; i++) keepAsked(`a=${i}`);
		keepAsked('a=15');
		keepAsked('  ');
		expect(lately()).toHaveLength(12);
		expect(lately().slice(0, 3)).toEqual(['a=15', 'a=19', 'a=18']);
	});

	it('is nothing where something else wrote there', () => {
		localStorage.setItem('obitus-asked', '{"no":"list"}');
		expect(lately()).toEqual([]);
		localStorage.setItem('obitus-asked', 'nonsense');
		expect(lately()).toEqual([]);
	});
});
