'use strict';
// Charts out of the numbers beside them, and tables that sort. Without it the page has all of its numbers.
(function () {
    const data = JSON.parse(document.getElementById('numbers').textContent);
    const colours = {
        emergency: '#7a0019', alert: '#b3123a', critical: '#d6453d', error: '#ee7733', warning: '#ddaa33', notice: '#44aa99',
        info: '#4477aa', debug: '#99a3ab', unknown: '#bbbbbb'
    };
    const dark = window.matchMedia('(prefers-color-scheme: dark)');
    const logarithmic = document.getElementById('logarithmic');
    const charts = [];

    function style(name) {
        return getComputedStyle(document.documentElement).getPropertyValue(name).trim();
    }

    function sets(section) {
        if (section.chart === 'stacked')
            return section.stack.filter((id) => section.rows.some((row) => row[id] > 0)).map((id) => ({
                label: id, data: section.rows.map((row) => row[id]), backgroundColor: colours[id], stack: 'all'
            }));
        return [{ label: 'messages', data: section.rows.map((row) => row.messages), backgroundColor: '#4477aa' }].concat(
            section.rows.some((row) => row.usual !== null && row.usual !== undefined) ?
                [{ label: 'usual', data: section.rows.map((row) => row.usual), backgroundColor: '#99a3ab' }] : []);
    }

    // Of the hours of one day the day need not be said.
    function labels(section) {
        const day = (text) => text.slice(0, 11);
        return section.chart === 'stacked' && section.labels.every((text) => text.length > 11 && day(text) === day(section.labels[0])) ?
            section.labels.map((text) => text.slice(11)) : section.labels;
    }

    function draw(canvas) {
        const section = data.sections[canvas.dataset.section];
        const lying = section.chart === 'bars';
        if (lying)
            canvas.parentElement.style.height = String(Math.max(130, 80 + 24 * section.labels.length)) + 'px';
        const ink = style('--ink'), line = style('--line');
        const numbers = {
            type: logarithmic.checked ? 'logarithmic' : 'linear', stacked: !lying, beginAtZero: true,
            ticks: { color: ink, maxTicksLimit: 6, callback: (value) => Number(value).toLocaleString('en-US') }, grid: { color: line }
        };
        const names = { stacked: !lying, ticks: { color: ink, autoSkip: !lying, maxRotation: 60 }, grid: { display: false } };
        charts.push(new Chart(canvas, {
            type: 'bar',
            data: { labels: labels(section), datasets: sets(section).map((set) => Object.assign(set, { maxBarThickness: 40 })) },
            options: {
                animation: false, responsive: true, maintainAspectRatio: false, indexAxis: lying ? 'y' : 'x',
                scales: lying ? { x: numbers, y: names } : { x: names, y: numbers },
                plugins: { legend: { labels: { color: ink, boxWidth: 14 } }, tooltip: { mode: 'index' } }
            }
        }));
    }

    function drawAll() {
        while (charts.length)
            charts.pop().destroy();
        document.querySelectorAll('canvas[data-section]').forEach(draw);
        document.documentElement.dataset.drawn = String(charts.length);
    }

    function value(row, column) {
        const cell = row.cells[column];
        return cell.dataset.value === undefined ? cell.textContent : Number(cell.dataset.value);
    }

    function sort(head) {
        const body = head.closest('table').tBodies[0], column = head.cellIndex;
        const down = head.getAttribute('aria-sort') === 'descending' ||
            (head.getAttribute('aria-sort') === 'none' && !head.classList.contains('number'));
        const rows = Array.from(body.rows).sort((a, b) => {
            const x = value(a, column), y = value(b, column);
            const order = typeof x === typeof y ? (x < y ? -1 : x > y ? 1 : 0) : typeof x === 'number' ? 1 : -1;
            return down ? order : -order;
        });
        head.parentElement.querySelectorAll('th').forEach((other) => other.setAttribute('aria-sort', 'none'));
        head.setAttribute('aria-sort', down ? 'ascending' : 'descending');
        body.append(...rows);
    }

    document.querySelectorAll('th button').forEach((button) => button.addEventListener('click', () => sort(button.parentElement)));
    logarithmic.addEventListener('change', drawAll);
    dark.addEventListener('change', drawAll);
    drawAll();
}());
